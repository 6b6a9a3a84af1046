#include <mesograph/adjust/advise.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/report/block_figures.hpp>
#include <mesograph/stages/advise.hpp>
#include <mesograph/stages/report.hpp>

namespace mesograph::stages {

using namespace survey;

std::vector<AdvisedPlace> advise(const Survey& survey, int n, Progress& progress) {
  constexpr int cells = 24;  // of the site's longer side: places a few steps apart are one to a surveyor
  progress.start("looking where targets would help", 1);
  const report::Material source = report_material(survey);
  std::vector<Eigen::Vector3d> places;
  for (const Eigen::Vector3d& X : report::ground_grid(source.named.block, cells).places)
    if (X.allFinite()) places.push_back(X);
  adjust::AdviseOptions options;
  options.n = n;
  options.sigma_h = survey.settings.control.sigma_h, options.sigma_v = survey.settings.control.sigma_v;
  options.sighting_px = survey.settings.control.sigma_px, options.tie_px = adjust::usual_sigma(source.named.block);
  const std::vector<adjust::Advice> advice = adjust::advise(source.named.block, source.uncertainty, places, options);
  if (places.empty())
    throw Error("adjust: --advise: no place on the site is seen by {} photos; nothing can be advised",
                options.least_photos);
  if (static_cast<int>(advice.size()) < n)
    progress.say(
        fmt::format("{} place would lower the largest height sigma by {:.0f} % or more: what is left is the "
                    "photos' own, and more overlap or a lower flight would help",
                    advice.empty() ? "no" : "no further", 100 * options.least_gain));
  std::vector<AdvisedPlace> rows;
  std::vector<Eigen::Vector3d> chosen;
  std::string text =
      fmt::format("place,{},height,photos,largest_sigma_before,largest_sigma_after\n", survey.crs.plan_columns());
  for (std::size_t i = 0; i < advice.size(); ++i) {
    const Eigen::Vector3d X = places[advice[i].place], at = source.frame.crs_from_local(X);
    chosen.push_back(X);
    rows.push_back({i + 1, at.x(), at.y(), at.z(), advice[i].photos, advice[i].before, advice[i].after});
    text += fmt::format("{},{},{},{},{},{},{}\n", i + 1, csv_length(at.x()), csv_length(at.y()), csv_length(at.z()),
                        advice[i].photos, csv_length(advice[i].before), csv_length(advice[i].after));
  }
  write_file(survey.results() / "advice.csv", text);
  write_file(survey.results() / "figures" / "advice.png", draw::sigma_map(report::sigma_data(source, chosen)).png);
  progress.advance();
  return rows;
}

}  // namespace mesograph::stages
