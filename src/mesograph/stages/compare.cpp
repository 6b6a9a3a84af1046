#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/stages/compare.hpp>
#include <mesograph/surface/make_surface.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/raster_file.hpp>
#include <mesograph/surface/vector_file.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using surface::Change;
using surface::Comparison;

namespace {

constexpr std::array names = {"east",          "north", "height", "turn about east", "turn about north",
                              "turn about up", "scale"};

std::vector<surface::Feature> features_of(const Comparison& c) {
  std::vector<surface::Feature> out;
  for (const Change& change : c.changes) {
    surface::Feature f{surface::Feature::Shape::polygon, {}, {}, "CHANGE", {}};
    for (const auto& ring : change.outline.rings) {
      f.parts.emplace_back();
      for (const Eigen::Vector2d& at : ring) f.parts.back().emplace_back(at.x(), at.y(), 0);
    }
    f.attributes = {{"id", change.id},
                    {"area", change.area},
                    {"fill", change.fill},
                    {"cut", change.cut},
                    {"net", change.fill - change.cut},
                    {"sigma", change.sigma},
                    {"largest", change.deepest}};
    out.push_back(std::move(f));
  }
  return out;
}

/// Differences about those of stable ground.
report::Figure histogram_of(const Comparison& c) {
  const double limit = std::max(1e-3, 4 * c.fit.stable_sigma);
  return {
      "Differences within four standard deviations of stable ground",
      fmt::format("Stable ground: mean {:+.4f} m, standard deviation {:.4f} m.", c.fit.stable_mean, c.fit.stable_sigma),
      "stable_ground", draw::histogram_drawing(c.difference, {-limit, limit}, "difference, m", "cells")};
}

report::Page page_of(const CompareRequest& request, const Comparison& c, const draw::Drawing& map) {
  report::Page page;
  page.title = "What changed";
  page.subtitle = fmt::format("{} less {}", request.later.string(), request.earlier.string());
  double fill = 0, cut = 0, variance = 0;
  for (const Change& change : c.changes)
    fill += change.fill, cut += change.cut, variance += change.sigma * change.sigma;
  page.verdict.push_back(c.changes.empty()
                             ? fmt::format("No change beyond error on {:.0f} m2, at {:g} % confidence.", c.area,
                                           100 * request.options.confidence)
                             : fmt::format("{} changes beyond error, at {:g} % confidence: {:.1f} m3 grown, {:.1f} m3 "
                                           "gone, net {:+.1f} m3, standard deviation {:.1f} m3.",
                                           c.changes.size(), 100 * request.options.confidence, fill, cut, fill - cut,
                                           std::sqrt(variance)));
  page.notes.push_back(
      fmt::format("Stable ground: {:.0f} % of what both show, mean {:+.4f} m, standard deviation {:.4f} m; errors are "
                  "alike over {:.0f} cells.",
                  100 * c.fit.stable_share, c.fit.stable_mean, c.fit.stable_sigma, c.alike));
  report::TableBlock fit{"Fit of the later surface",
                         fmt::format("{}, onto stable ground; this was taken off", word_of(request.options.fit)),
                         {"", "value", "sigma", "unit"},
                         {},
                         false};
  for (int k = 0; k < 7; ++k) {
    if (c.fit.sigmas[k] == 0) continue;
    const double per = k < 3 ? 1 : 1e-6;
    fit.rows.push_back({names[static_cast<std::size_t>(k)], fmt::format("{:+.4f}", c.fit.values[k] / per),
                        fmt::format("{:.4f}", c.fit.sigmas[k] / per),
                        k < 3   ? "m"
                        : k < 6 ? "microrad"
                                : "ppm"});
  }
  page.sections.push_back({"Changes", {}, {}, {}});
  page.sections.push_back({"Fit and stable ground", {}, {}, {histogram_of(c)}});
  if (!fit.rows.empty()) page.sections[1].tables.push_back(std::move(fit));
  report::TableBlock table{"Changes",
                           "Volumes in m3, sigma of their difference",
                           {"change", "area, m2", "grown", "gone", "net", "sigma", "largest, m"},
                           {},
                           false};
  for (const Change& change : c.changes)
    table.rows.push_back({std::to_string(change.id), fmt::format("{:.1f}", change.area),
                          fmt::format("{:.2f}", change.fill), fmt::format("{:.2f}", change.cut),
                          fmt::format("{:+.2f}", change.fill - change.cut), fmt::format("{:.2f}", change.sigma),
                          fmt::format("{:+.2f}", change.deepest)});
  if (!table.rows.empty()) page.sections[0].tables.push_back(std::move(table));
  page.sections[0].wide.push_back({"Differences",
                                   "Red: higher now; blue: lower now; pale: not beyond 1.96 standard deviations.",
                                   "difference", map});
  return page;
}

bool is_cloud(const fs::path& path) {
  const fs::path ending = path.extension();
  return ending == ".las" || ending == ".LAS" || ending == ".laz" || ending == ".LAZ";
}

/// The surface of a cloud's top, or a raster as it is. `cell`: m.
surface::Surface surface_from(const fs::path& path, double cell, const fs::path& scratch, Progress& progress) {
  if (!is_cloud(path)) return surface::read_surface(path);
  cloud::LasReader file(path);
  surface::SurfaceOptions options;
  options.cell = cell, options.scratch = scratch;
  return surface::make_surface({&file}, options, progress);
}

/// Clouds are compared on cells as the sparser of both has its points, or on those of the raster.
std::pair<surface::Surface, surface::Surface> both_surfaces(const CompareRequest& request, Progress& progress) {
  double cell = 0;
  for (const fs::path& path : {request.earlier, request.later})
    if (is_cloud(path)) {
      cloud::LasReader file(path);
      cell = std::max(cell, surface::usual_cell({&file}, progress));
    }
  std::error_code ignored;
  fs::create_directories(request.out, ignored);
  if (is_cloud(request.earlier) != is_cloud(request.later)) {
    const fs::path& raster = is_cloud(request.earlier) ? request.later : request.earlier;
    cell = std::max(cell, surface::read_surface(raster).grid.cell);
  }
  return {surface_from(request.earlier, cell, request.out, progress),
          surface_from(request.later, cell, request.out, progress)};
}

/// Both surfaces along the longest axis of each of the first changes.
report::Section profiles_of(const Comparison& c, const surface::Surface& earlier, const surface::Surface& later) {
  report::Section out{"Profiles", {}, {}, {}};
  constexpr std::size_t most = 12;  // on a page
  for (std::size_t i = 0; i < std::min(most, c.changes.size()); ++i) {
    const auto [a, b] = surface::longest_axis(c.changes[i].outline);
    out.pairs.push_back(
        {fmt::format("Change {}", c.changes[i].id),
         "Blue: where the change ends. The later surface as it is, unfitted.",
         fmt::format("profile_{}", c.changes[i].id),
         draw::profile_drawing({{&earlier, draw::ink, "earlier"}, {&later, draw::control_colour, "later"}}, a, b)});
  }
  return out;
}

}  // namespace

Json json_of(const Compared& made) {
  const Comparison& c = made.comparison;
  Json out{{"files", made.files},
           {"area", c.area},
           {"stable_mean", c.fit.stable_mean},
           {"stable_sigma", c.fit.stable_sigma},
           {"stable_share", c.fit.stable_share}};
  out["fit"] = Json::object();
  for (int k = 0; k < 7; ++k)
    if (c.fit.sigmas[k] > 0)
      out["fit"][names[static_cast<std::size_t>(k)]] = {{"value", c.fit.values[k]}, {"sigma", c.fit.sigmas[k]}};
  out["changes"] = Json::array();
  for (const Change& change : c.changes)
    out["changes"].push_back({{"id", change.id},
                              {"area", change.area},
                              {"fill", change.fill},
                              {"cut", change.cut},
                              {"sigma", change.sigma},
                              {"largest", change.deepest}});
  return out;
}

Compared compare_files(const CompareRequest& request, Progress& progress) {
  auto [earlier, later] = both_surfaces(request, progress);
  if (!surface::same_crs(earlier, later)) {
    later = surface::into_crs(later, earlier.wkt, request.later.string());
    progress.say(fmt::format("{}: brought into the CRS of {}, plan and heights", request.later.string(),
                             request.earlier.string()));
  }
  surface::CompareOptions options = request.options;
  if (!request.stable.empty())
    for (const cloud::Polygon& polygon : cloud::read_polygons(request.stable, earlier.wkt))
      options.stable.push_back(polygon.times(earlier.metres.head<2>()));
  Compared out{{}, surface::compare(earlier, later, options, progress)};
  const Comparison& c = out.comparison;
  const auto made = [&](const char* name) {
    out.files.push_back((request.out / name).string());
    return request.out / name;
  };
  surface::write_layer(made("difference.tif"), earlier, c.difference, "later less earlier height", "m");
  surface::write_layer(made("significance.tif"), earlier, c.significance, "difference over its standard deviation", "");
  surface::write_vectors(
      made("changes.gpkg"), earlier,
      {{"changes",
        surface::Feature::Shape::polygon,
        true,
        {{"id", 0}, {"area", 0.0}, {"fill", 0.0}, {"cut", 0.0}, {"net", 0.0}, {"sigma", 0.0}, {"largest", 0.0}},
        features_of(c)}});
  double limit = 4 * c.fit.stable_sigma;
  std::vector<draw::MapLine> lines;
  for (const Change& change : c.changes) {
    limit = std::max(limit, 0.6 * std::abs(change.deepest));
    constexpr int labelled = 20;
    lines.push_back(
        {change.outline.rings.front(), false, false, true, change.id <= labelled ? std::to_string(change.id) : ""});
  }
  progress.start("drawing", 1);
  const draw::Drawing map =
      draw::difference_drawing(earlier, c.difference, c.significance, limit, {"later less earlier"}, lines);
  write_file(made("difference.png"), map.png);
  report::Page page = page_of(request, c, map);
  if (!c.changes.empty()) page.sections.push_back(profiles_of(c, earlier, later));
  write_file(made("changes.html"), report::page_html(page));
  return out;
}

}  // namespace mesograph::stages
