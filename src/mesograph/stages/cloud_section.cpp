#include <fmt/format.h>

#include <algorithm>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/cloud_section.hpp>
#include <mesograph/stages/densify.hpp>

namespace mesograph::stages {

using survey::Survey;

namespace {

std::optional<Densified> standing_cloud(const Survey& survey) {
  const auto made = survey.store.stage("densify");
  if (!made) return std::nullopt;
  Densified out = made->result<Densified>();
  if (out.file.ends_with(".ply") || out.block != densified_block_print(survey)) return std::nullopt;
  return out;
}

std::vector<std::vector<std::string>> rows_of(const Densified& made, const cloud::LasReader& file) {
  std::vector<std::vector<std::string>> out = {
      {"file", made.file},
      {"points", fmt::format("{}", file.header().points)},
      {"spacing", fmt::format("{:.3f} m, from photos at level {}", made.spacing, made.level)},
      {"density", fmt::format("{:.0f} points a square metre, where there are any", made.density)}};
  if (made.check_heights)
    out.push_back({"heights at surveyed points",
                   fmt::format("{} points, RMSE {:.3f} m, mean {:+.3f} m (cloud less survey)",
                               made.check_heights->count, made.check_heights->rmse, made.check_heights->mean)});
  return out;
}

report::TableBlock classes_table(const cloud::Description& described, std::uint64_t points) {
  report::TableBlock out{"Classes", "As LAS numbers them.", {"class", "name", "points", "share"}, {}, false};
  for (const auto& [of, n] : described.classes)
    out.rows.push_back({std::to_string(of), draw::class_name(of), std::to_string(n),
                        fmt::format("{:.1f} %", 100 * static_cast<double>(n) / static_cast<double>(points))});
  return out;
}

/// How sure heights are: a histogram up to what all but one in a hundred keep to.
std::optional<report::Figure> sigmas_figure(cloud::LasReader& file) {
  const cloud::LasAttribute* sigma = cloud::sigma_of(file.header());
  if (!sigma) return std::nullopt;
  const std::vector<double> some =
      cloud::sample(file, [&](const cloud::LasPoints& points, std::size_t i) { return points.value(i, *sigma); });
  std::vector<float> values(some.begin(), some.end());
  std::sort(values.begin(), values.end());
  const auto at = [&](double share) {
    return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
  };
  return report::Figure{"How sure its heights are",
                        fmt::format("Standard deviations of single points ({}), of matching and block together: median "
                                    "{:.3f} m, 95 % below {:.3f} m.",
                                    sigma->name, at(0.5), at(0.95)),
                        "cloud_sigma",
                        draw::histogram_drawing(values, {0, at(0.99)}, "standard deviation, m", "points of a sample")};
}

}  // namespace

std::string cloud_section_print(const Survey& survey) {
  return standing_cloud(survey) ? survey.store.stage("densify")->fingerprint : "";
}

std::optional<report::Section> cloud_section(const Survey& survey, Progress& progress) {
  const std::optional<Densified> made = standing_cloud(survey);
  if (!made || !survey.store.changed_output("densify").empty()) return std::nullopt;
  cloud::LasReader file(survey.folder / made->file);
  if (file.header().points == 0) return std::nullopt;
  const cloud::Description described = cloud::describe(file, progress);
  report::Section out;
  out.title = "The cloud";
  out.tables.push_back({"Cloud", "Made of this adjustment.", {"figure", "value"}, rows_of(*made, file), false});
  if (described.classes.size() > 1) out.tables.push_back(classes_table(described, file.header().points));
  draw::CloudSheetOptions sheet;
  constexpr int page_width = 720;
  sheet.view.width = page_width;
  out.pairs.push_back({"Its points from above", "In their own colours; north is up.", "cloud",
                       draw::cloud_drawing(file, described, sheet, progress)});
  if (auto sigmas = sigmas_figure(file)) out.pairs.push_back(std::move(*sigmas));
  return out;
}

}  // namespace mesograph::stages
