#include <mesograph/adjust/adjust.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/last_adjustment.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* kept_layout = "kept 1";

}  // namespace

Adjusted last_adjustment(const Survey& survey) {
  const auto stage = survey.store.stage("adjust");
  if (!stage) throw Error("{}: nothing is adjusted yet; run mesograph adjust first", survey.folder.string());
  return stage->result<Adjusted>();
}

std::optional<adjust::Uncertainty> adjusted_uncertainty(const Survey& survey, const adjust::Block& block) {
  if (!survey.store.stage("adjust")) return std::nullopt;
  adjust::Scope scope;
  scope.free = adjust::free_from(last_adjustment(survey).summary.free, "adjust: --free");
  return adjust::uncertainty_of(block, scope);
}

fs::path kept_file(const Survey& survey, const std::string& name) { return survey.store.folder() / ("kept-" + name); }

report::KeptAdjustment kept_adjustment(const Survey& survey, const std::string& name) {
  if (!has_layout(kept_file(survey, name), kept_layout))
    throw Error("report: there is no adjustment '{}'; adjust --as {} keeps one", name, name);
  return read_packed<report::KeptAdjustment>(kept_file(survey, name), kept_layout);
}

void keep_adjustment(const Survey& survey, const std::string& name, const report::KeptAdjustment& kept) {
  write_packed(kept_file(survey, name), kept_layout, kept);
}

}  // namespace mesograph::stages
