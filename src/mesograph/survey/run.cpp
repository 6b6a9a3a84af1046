#include <algorithm>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

nlohmann::ordered_json run(Survey& survey, bool only_preview, Progress& progress) {
  nlohmann::ordered_json out;
  const auto add = [&](const char* name, const Outcome& outcome) {
    out[name] = outcome.summary;
    out[name]["did"] = outcome.made ? "made" : "current";
  };
  // Photos that have not changed are only looked at; `made` then says whether the table did.
  Outcome admitted = admit(survey, {}, progress);
  admitted.summary = survey.store.stage("admit")->summary;
  add("admit", admitted);
  if (only_preview) {
    add("preview", preview(survey, progress));
    return out;
  }
  // A listing of photos without pixels, such as those of a calibration board, is adjusted as it is.
  const PhotoTable photos = load_photos(survey);
  const bool pixels = std::any_of(photos.photos.begin(), photos.photos.end(),
                                  [](const Photo& p) { return p.screened_out.empty() && !p.path.empty(); });
  if (pixels || survey.store.stage("tie")) {
    add("tie", tie(survey, {}, progress));
    add("orient", orient(survey, progress));
  }
  if (std::filesystem::exists(survey.inputs() / "control.csv")) {
    add("control", control(survey, {}, progress));
    add("sight", sight(survey, {}, progress));
  }
  add("adjust", adjust(survey, {}, progress));
  if (survey.settings.wants("cloud") && pixels) add("densify", densify(survey, {}, progress));
  if (survey.settings.wants("report")) add("report", report(survey, "", progress));
  return out;
}

}  // namespace mesograph::survey
