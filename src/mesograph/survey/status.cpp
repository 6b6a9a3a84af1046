#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/survey/status.hpp>

namespace mesograph::survey {

namespace {

StageState judge(const Survey& survey, const std::string& name, const std::string& wanted, const std::string& cause,
                 const std::vector<StageState>& before) {
  const auto stage = survey.store.stage(name);
  if (!stage) return {name, "missing", "has not run"};
  for (const StageState& s : before)
    if (s.state != "current" && !s.only_outputs) return {name, "out of date", s.name + " is " + s.state};
  if (stage->fingerprint != wanted) return {name, "out of date", cause};
  if (const std::string changed = survey.store.changed_output(name); !changed.empty())
    return {name, "out of date", changed, true};
  return {name, "current", ""};
}

StageState judge_admit(const Survey& survey) {
  if (!survey.store.stage("admit")) return {"admit", "missing", "has not run"};
  try {
    const std::string changed = photos_changed(survey);
    return {"admit", changed.empty() ? "current" : "out of date", changed};
  } catch (const Error& error) {  // a folder that is gone, a table of another version
    return {"admit", "out of date", error.what()};
  }
}

/// Photos of a listing alone are not matched: there is nothing to match.
bool ties_are_wanted(const Survey& survey) {
  if (survey.store.stage("tie") || !has_photos(survey)) return true;
  const PhotoTable photos = load_photos(survey);
  return std::any_of(photos.photos.begin(), photos.photos.end(),
                     [](const Photo& p) { return p.screened_out.empty() && !p.path.empty(); });
}

}  // namespace

std::vector<StageState> stage_states(const Survey& survey) {
  std::vector<StageState> out = {judge_admit(survey)};
  StageState last = out[0];  // what an adjustment would rest on
  if (ties_are_wanted(survey)) {
    out.push_back(judge(survey, "tie", tie_fingerprint(survey), "photos, [tie] or options differ", {out[0]}));
    out.push_back(judge(survey, "orient", orient_fingerprint(survey), "[sortie], [camera] or the datum's points differ",
                        {out[1]}));
    last = out.back();
  }
  if (std::filesystem::exists(survey.inputs() / "control.csv"))
    out.push_back(judge(survey, "sight", sight_fingerprint(survey), "control, sightings or [control] differ", {last}));
  // Adjusting does not need the finder to have run; it takes what is there.
  out.push_back(
      judge(survey, "adjust", adjust_fingerprint(survey), "control, sightings, settings or options differ", {last}));
  const StageState adjusted = out.back();
  if (survey.settings.wants("cloud"))
    out.push_back(judge(survey, "densify", densify_fingerprint(survey), "[densify] or options differ", {adjusted}));
  if (survey.settings.wants("report"))
    out.push_back(
        judge(survey, "report", report_fingerprint(survey), "the adjustment or [tolerance] differs", {adjusted}));
  return out;
}

std::string behind(const Survey& survey, const std::string& stage) {
  static const std::vector<std::string> order = {"admit", "tie", "orient", "adjust"};
  const bool last = stage == "densify" || stage == "report";  // on all four; the others on those before them
  const auto end = last ? order.end() : std::find(order.begin(), order.end(), stage == "sight" ? "adjust" : stage);
  for (const StageState& s : stage_states(survey))
    if (s.state == "out of date" && !s.only_outputs && std::find(order.begin(), end, s.name) != end)
      return fmt::format("{} is out of date ({})", s.name, s.reason);
  return {};
}

Outcome standing(const Survey& survey, const std::string& name, const Store::Stage& stage) {
  return {stage.summary, false, survey.preview ? std::string() : behind(survey, name)};
}

std::string next_step(const Survey& survey, const std::vector<StageState>& states) {
  const bool control = std::filesystem::exists(survey.inputs() / "control.csv");
  const bool known = !read_sources(survey.inputs()).empty() || std::filesystem::exists(survey.inputs() / "listing.csv");
  for (const StageState& s : states) {
    if (s.state == "current") continue;
    if (s.name == "admit" && s.state == "missing")
      return known ? "mesograph run" : "mesograph admit PHOTOS --sortie NAME";
    if (s.name == "adjust" && !control && s.state == "missing") return "mesograph control control.csv";
    return s.state == "missing" ? "mesograph " + s.name : "mesograph run";
  }
  return "";
}

}  // namespace mesograph::survey
