#include <mesograph/base/errors.hpp>
#include <mesograph/report/wrong.hpp>
#include <mesograph/stages/say_wrong.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

using namespace survey;

void say_wrong(const Survey& survey, Progress& progress) {
  if (!survey.store.stage("orient") || !block_stands(survey, "orient")) return;
  NamedBlock named = load_block(survey, "orient");
  named.block.surveyed =
      surveyed_points(survey, geo::Frame(survey.crs, named.origin), named.images, found_file(survey));
  report::say_wrong(named, progress);
}

}  // namespace mesograph::stages
