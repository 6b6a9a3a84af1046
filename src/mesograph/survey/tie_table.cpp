#include <mesograph/base/errors.hpp>
#include <mesograph/survey/tie_table.hpp>

namespace mesograph::survey {

namespace {

constexpr const char* tie_table_layout = "ties 5";

}  // namespace

TieTable load_ties(const Survey& survey) {
  if (!survey.store.stage("tie")) throw Error("{}: no tie points yet; run mesograph tie first", survey.folder.string());
  return read_packed<TieTable>(survey.store.folder() / "ties", tie_table_layout);
}

void save_ties(const Survey& survey, const TieTable& ties) {
  write_packed(survey.store.folder() / "ties", tie_table_layout, ties);
}

}  // namespace mesograph::survey
