#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/stages/compare_clouds.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using surface::NormalChange;

namespace {

constexpr float sure = 1.96F;

void write_places(const fs::path& path, const cloud::NormalDistances& all, const std::vector<float>& significance,
                  const std::string& wkt, const Eigen::Vector3d& metres, double limit) {
  std::vector<cloud::CloudRecord> records;
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < all.places.size(); ++i) {
    const cloud::NormalDistance& place = all.places[i];
    cloud::CloudRecord r;
    r.X = place.X.cwiseQuotient(metres);
    const bool significant = std::abs(significance[i]) >= sure;
    r.colour = draw::bytes_of(draw::diverging_ramp(significant ? place.distance / limit : 0));
    r.normal = place.normal, r.sigma_match = place.sigma, r.sigma_z = place.sigma;
    r.more = {place.distance, significance[i]};
    box.extend(r.X);
    records.push_back(r);
  }
  const cloud::LasHeader header = cloud::cloud_header(
      wkt, box, 0.001, true,
      {{"distance", "m, later from earlier, on normal"}, {"significance", "distance over its sigma"}});
  cloud::LasWriter writer(path, header);
  writer.add(cloud::cloud_records(header, records).data(), records.size());
  writer.finish();
}

std::string picture_of(const cloud::NormalDistances& all, const std::vector<float>& significance, double limit) {
  Eigen::AlignedBox3d box;
  Eigen::Vector3d mean = Eigen::Vector3d::Zero();
  for (const auto& place : all.places) box.extend(place.X), mean += place.normal.cast<double>();
  draw::CloudView::Options options;
  options.shown = draw::Shown::distance, options.spacing = 0.5 * all.scale;
  // A wall is looked at from its front, ground from above.
  if (mean.head<2>().norm() > std::abs(mean.z()))
    options.eye = {std::fmod(360 + std::atan2(mean.x(), mean.y()) * deg_per_rad, 360), 35};
  draw::CloudView view(box, {-limit, limit}, options);
  for (std::size_t i = 0; i < all.places.size(); ++i) {
    // What is not beyond error is pale.
    view.add(all.places[i].X, {}, std::abs(significance[i]) >= sure ? all.places[i].distance : 0);
  }
  return view.png({});
}

report::Figure histogram_of_distances(const cloud::NormalDistances& all, const surface::Fitted& fit) {
  std::vector<float> distances;
  for (const auto& place : all.places) distances.push_back(place.distance);
  const double limit = std::max(1e-3, 4 * fit.stable_sigma);
  return {"Distances within four standard deviations of what stands",
          fmt::format("What stands: mean {:+.4f} m, standard deviation {:.4f} m.", fit.stable_mean, fit.stable_sigma),
          "stable_places", draw::histogram_drawing(distances, {-limit, limit}, "distance, m", "places")};
}

report::Page page_of_clouds(const CompareCloudsRequest& request, const ComparedClouds& made,
                            const cloud::NormalDistances& all) {
  const surface::NormalComparison& c = made.comparison;
  report::Page page;
  page.title = "What changed along the normals";
  page.subtitle = fmt::format("{} from {}", request.later.string(), request.earlier.string());
  page.verdict.push_back(c.changes.empty() ? fmt::format("No change beyond error on {:.0f} m2, at {:g} % confidence.",
                                                         c.area, 100 * request.options.confidence)
                                           : fmt::format("{} changes beyond error, at {:g} % confidence.",
                                                         c.changes.size(), 100 * request.options.confidence));
  page.notes.push_back(fmt::format(
      "What stands: {:.0f} % of {} places, mean {:+.4f} m, standard deviation {:.4f} m; distances are of points within "
      "{:.3f} m of the normal. {} places have no later points near their normal.",
      100 * c.fit.stable_share, made.places, c.fit.stable_mean, c.fit.stable_sigma, 0.5 * made.scale, made.alone));
  report::TableBlock table{"Changes",
                           "Distances along the normal: mean with its sigma, and largest",
                           {"change", "east", "north", "height", "area, m2", "distance, m", "sigma", "largest"},
                           {},
                           false};
  for (const NormalChange& change : c.changes)
    table.rows.push_back({std::to_string(change.id), fmt::format("{:.1f}", change.middle.x()),
                          fmt::format("{:.1f}", change.middle.y()), fmt::format("{:.1f}", change.middle.z()),
                          fmt::format("{:.2f}", change.area), fmt::format("{:+.3f}", change.distance),
                          fmt::format("{:.3f}", change.sigma), fmt::format("{:+.3f}", change.largest)});
  page.sections.push_back({"Changes", {}, {}, {histogram_of_distances(all, c.fit)}});
  if (!table.rows.empty()) page.sections[0].tables.push_back(std::move(table));
  return page;
}

std::string changes_table(const std::vector<NormalChange>& changes, const Eigen::Vector3d& metres) {
  std::string text = "id,east,north,height,area,distance,sigma,largest\n";
  for (const NormalChange& c : changes) {
    const Eigen::Vector3d at = c.middle.cwiseQuotient(metres);
    text += fmt::format("{},{:.3f},{:.3f},{:.3f},{:.3f},{:.4f},{:.4f},{:.4f}\n", c.id, at.x(), at.y(), at.z(), c.area,
                        c.distance, c.sigma, c.largest);
  }
  return text;
}

}  // namespace

Json json_of(const ComparedClouds& made) {
  const surface::NormalComparison& c = made.comparison;
  Json out{{"files", made.files},
           {"places", made.places},
           {"alone", made.alone},
           {"scale", made.scale},
           {"area", c.area},
           {"stable_mean", c.fit.stable_mean},
           {"stable_sigma", c.fit.stable_sigma},
           {"stable_share", c.fit.stable_share}};
  out["changes"] = Json::array();
  for (const NormalChange& change : c.changes)
    out["changes"].push_back({{"id", change.id},
                              {"area", change.area},
                              {"distance", change.distance},
                              {"sigma", change.sigma},
                              {"largest", change.largest}});
  return out;
}

ComparedClouds compare_clouds(const CompareCloudsRequest& request, Progress& progress) {
  cloud::LasReader earlier(request.earlier), later(request.later);
  const Eigen::Vector3d metres = cloud::metres_of(earlier.header(), request.earlier.string());
  cloud::NormalDistanceOptions distances = request.distances;
  distances.scratch = fs::absolute(request.out);
  std::error_code ignored;
  fs::create_directories(distances.scratch, ignored);
  surface::CompareOptions options = request.options;
  if (!request.stable.empty())
    for (const cloud::Polygon& polygon : cloud::read_polygons(request.stable, earlier.header().crs()))
      options.stable.push_back(polygon.times(metres.head<2>()));
  cloud::NormalDistances all = cloud::distances_along_normal(earlier, later, distances, progress);
  ComparedClouds out;
  out.comparison = surface::changes_along_normal(all, options);
  out.places = all.places.size(), out.alone = all.alone, out.scale = all.scale;
  const surface::NormalComparison& c = out.comparison;
  double limit = 4 * c.fit.stable_sigma;
  for (const NormalChange& change : c.changes) limit = std::max(limit, 1.5 * std::abs(change.distance));
  const auto made = [&](const char* name) {
    out.files.push_back((request.out / name).string());
    return request.out / name;
  };
  progress.start("writing", 1);
  write_places(made("distances.las"), all, c.significance, earlier.header().crs(), metres, limit);
  write_file(made("changes.csv"), changes_table(c.changes, metres));
  write_file(made("distances.png"), picture_of(all, c.significance, limit));
  write_file(made("changes.html"), report::page_html(page_of_clouds(request, out, all)));
  return out;
}

}  // namespace mesograph::stages
