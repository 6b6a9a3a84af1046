#include <mesograph/survey/status.hpp>

namespace mesograph::survey {

namespace {

StageState judge(const Survey& survey, const std::string& name, const std::string& wanted, const std::string& cause,
                 const std::vector<StageState>& before) {
  const auto stage = survey.store.stage(name);
  if (!stage) return {name, "missing", "has not run"};
  for (const StageState& s : before)
    if (s.state != "current") return {name, "out of date", s.name + " is " + s.state};
  if (stage->fingerprint != wanted) return {name, "out of date", cause};
  return {name, "current", ""};
}

StageState judge_admit(const Survey& survey) {
  if (!survey.store.stage("admit")) return {"admit", "missing", "has not run"};
  for (const Photo& p : load_photos(survey).photos)
    if (!p.path.empty() && !std::filesystem::exists(p.path))
      return {"admit", "out of date", "photo " + p.path.string() + " is not where it was"};
  return {"admit", "current", ""};
}

}  // namespace

std::vector<StageState> stage_states(const Survey& survey) {
  std::vector<StageState> out = {judge_admit(survey)};
  out.push_back(judge(survey, "tie", tie_fingerprint(survey), "photos, [tie] or options differ", {out[0]}));
  out.push_back(judge(survey, "orient", orient_fingerprint(survey), "[sortie] or the datum's points differ", {out[1]}));
  const StageState oriented = out.back();
  if (std::filesystem::exists(survey.inputs() / "control.csv"))
    out.push_back(
        judge(survey, "sight", sight_fingerprint(survey), "control, sightings or [control] differ", {oriented}));
  // Adjusting does not need the finder to have run; it takes what is there.
  out.push_back(judge(survey, "adjust", adjust_fingerprint(survey), "control, sightings, [adjust] or options differ",
                      {oriented}));
  const StageState adjusted = out.back();
  if (survey.settings.wants("cloud"))
    out.push_back(judge(survey, "densify", densify_fingerprint(survey), "[densify] or options differ", {adjusted}));
  if (survey.settings.wants("report"))
    out.push_back(judge(survey, "report", report_fingerprint(survey), "the adjustment differs", {adjusted}));
  return out;
}

std::string next_step(const Survey& survey, const std::vector<StageState>& states) {
  const bool control = std::filesystem::exists(survey.inputs() / "control.csv");
  for (const StageState& s : states) {
    if (s.state == "current") continue;
    if (s.name == "admit" && s.state == "missing") return "mesograph admit PHOTOS --sortie NAME";
    if (s.name == "adjust" && !control) return "mesograph control control.csv";
    return s.state == "missing" ? "mesograph " + s.name : "mesograph run";
  }
  return "";
}

}  // namespace mesograph::survey
