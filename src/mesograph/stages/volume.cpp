#include <fmt/format.h>

#include <algorithm>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/dense/cloud_accuracy.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/volume.hpp>
#include <mesograph/surface/correlation.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/raster_file.hpp>
#include <mesograph/surface/vector_file.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using surface::Base;
using surface::Volume;

namespace {

constexpr double yard3 = 0.9144 * 0.9144 * 0.9144;  // m3

/// What heights about the surface's middle have in common, m, and the scale of the block there: from its covariance.
std::pair<double, double> block_sigmas(const survey::Survey& survey, const surface::Surface& s, Progress& progress) {
  const adjust::NamedBlock named = block_to_densify(survey, survey::load_photos(survey), true, progress);
  const dense::BlockVariance variance(named.block, adjusted_uncertainty(survey, named.block));
  const geo::Frame frame(survey.crs, named.origin);
  const Eigen::Vector2d middle = s.grid.middle(s.grid.columns / 2, s.grid.rows / 2);
  double level = 0;
  int n = 0;
  for (std::size_t i = 0; i < s.z.size(); i += 101)
    if (std::isfinite(s.z[i])) level += s.z[i], ++n;
  const Eigen::Vector3d at =
      frame.local_from_crs(Eigen::Vector3d(middle.x(), middle.y(), n > 0 ? level / n : 0).cwiseQuotient(s.metres));
  const double block = std::sqrt(variance.at(at));
  // A block that is so sure of a height in its middle is as sure of its own size, over half of it.
  const double half = 0.25 * s.grid.cell * (s.grid.columns + s.grid.rows);
  return {block, block / half};
}

/// The outlines, in m, whole and apart; what is odd about them is said.
std::vector<cloud::Polygon> outlines_of(const VolumeRequest& request, const surface::Surface& s, Progress& progress) {
  if (request.polygons.empty()) {
    std::vector<cloud::Polygon> out = surface::find_piles(s, request.find, progress);
    if (out.empty())
      throw Error("{}: no heap or pit of {:g} m2 and {:g} m stands out of it; draw outlines, or lower --least-height",
                  request.surface.string(), request.find.least_area, request.find.least_height);
    return out;
  }
  std::vector<cloud::Polygon> out;
  for (const cloud::Polygon& drawn : cloud::read_polygons(request.polygons, s.wkt)) {
    bool crossed = false;
    out.push_back(surface::valid(drawn.times(s.metres.head<2>()), crossed));
    if (crossed) progress.say(fmt::format("outline {} crosses itself; it was mended", drawn.name));
  }
  for (std::size_t i = 0; i < out.size(); ++i)
    for (std::size_t j = i + 1; j < out.size(); ++j)
      if (out[i].box().intersects(out[j].box()) && out[j].contains(out[i].rings[0][0]))
        progress.say(
            fmt::format("outlines {} and {} overlap; what they share counts in both", out[i].name, out[j].name));
  return out;
}

std::vector<Base> wanted_bases(const VolumeRequest& request) {
  std::vector<Base> out = request.bases;
  const auto has = [&](Base base) { return std::find(out.begin(), out.end(), base) != out.end(); };
  if (std::isfinite(request.height) && !has(Base::height)) out.push_back(Base::height);
  if (!request.against.empty() && !has(Base::surface)) out.push_back(Base::surface);
  if (has(Base::height) && !std::isfinite(request.height)) throw Error("volume: the base height needs --height");
  if (has(Base::surface) && request.against.empty())
    throw Error("volume: the base surface needs --against, a raster of heights");
  return out;
}

Pile measured(const surface::Surface& s, const cloud::Polygon& outline, const std::vector<Base>& bases,
              const surface::VolumeOptions& options, Progress& progress) {
  Pile out{outline.name, surface::volumes_of(s, outline, bases, options), outline};
  if (out.volumes.empty())
    throw Error("outline {}: lies off the surface, or on cells without heights; check its CRS", outline.name);
  const Volume& first = out.volumes.front();
  if (first.missing_share > 0.02)
    progress.say(fmt::format("outline {}: {:.0f} % of its area has no heights and does not count", outline.name,
                             100 * first.missing_share));
  for (const Volume& v : out.volumes)
    if (v.base == Base::height && v.fill < 0.02 * v.cut)
      progress.say(fmt::format("outline {}: the given height lies above nearly all of it", outline.name));
  return out;
}

struct Units {
  double per = 1;
  const char* word = "m3";
};

void write_table(const fs::path& path, const VolumesMade& made, const VolumeRequest& request, const Units& unit) {
  std::string text = fmt::format(
      "id,base,unit,fill,cut,net,sigma,sigma_noise,sigma_base,sigma_block,sigma_filled,toe_one_cell,area,"
      "surface_area,perimeter,highest,filled_share,missing_share{}\n",
      std::isfinite(request.density) ? ",tonnes,sigma_tonnes" : "");
  for (const Pile& pile : made.piles)
    for (const Volume& v : pile.volumes) {
      text += fmt::format("{},{},{}", csv_field(pile.id), word_of(v.base), unit.word);
      for (const double value : {v.fill, v.cut, v.net, v.sigma, v.of_noise, v.of_base, v.of_block, v.of_filled, v.toe})
        text += fmt::format(",{:.3f}", value / unit.per);
      text += fmt::format(",{:.2f},{:.2f},{:.2f},{:.3f},{:.4f},{:.4f}", v.area, v.surface_area, v.perimeter, v.highest,
                          v.filled_share, v.missing_share);
      if (std::isfinite(request.density))
        text += fmt::format(",{:.3f},{:.3f}", v.net * request.density, v.sigma * request.density);
      text += "\n";
    }
  write_file(path, text);
}

void write_outlines(const fs::path& path, const VolumesMade& made, const surface::Surface& s, const Units& unit) {
  surface::VectorLayer layer{
      "volumes",
      surface::Feature::Shape::polygon,
      true,
      {{"id", std::string()}, {"unit", std::string()}, {"area", 0.0}, {"surface_area", 0.0}, {"perimeter", 0.0}},
      {}};
  const auto names = [](Base base) {
    std::string out(word_of(base));
    std::replace(out.begin(), out.end(), '-', '_');
    return out;
  };
  for (const Volume& v : made.piles.front().volumes)
    for (const char* what : {"fill", "cut", "net", "sigma"}) layer.fields.push_back({names(v.base) + "_" + what, 0.0});
  for (const Pile& pile : made.piles) {
    surface::Feature f{surface::Feature::Shape::polygon, {}, {}, "OUTLINE", {}};
    for (const auto& ring : pile.outline.rings) {
      f.parts.emplace_back();
      for (const Eigen::Vector2d& at : ring) f.parts.back().emplace_back(at.x(), at.y(), 0);
    }
    const Volume& first = pile.volumes.front();
    f.attributes = {{"id", pile.id},
                    {"unit", std::string(unit.word)},
                    {"area", first.area},
                    {"surface_area", first.surface_area},
                    {"perimeter", first.perimeter}};
    for (const Volume& v : pile.volumes) {
      f.attributes.push_back({names(v.base) + "_fill", v.fill / unit.per});
      f.attributes.push_back({names(v.base) + "_cut", v.cut / unit.per});
      f.attributes.push_back({names(v.base) + "_net", v.net / unit.per});
      f.attributes.push_back({names(v.base) + "_sigma", v.sigma / unit.per});
    }
    layer.features.push_back(std::move(f));
  }
  surface::write_vectors(path, s, {layer});
}

report::Figure profile_of(const surface::Surface& s, const Pile& pile) {
  const auto [a, b] = surface::longest_axis(pile.outline);
  return {fmt::format("{}: profile", pile.id), "Blue: the outline.", "profile_" + pile.id,
          draw::profile_drawing({{&s, draw::ink, ""}}, a, b)};
}

report::Page page_of(const VolumesMade& made, const VolumeRequest& request, const surface::Surface& s,
                     const Units& unit) {
  report::Page page;
  page.title = "Volumes";
  page.subtitle = request.surface.filename().string();
  std::vector<draw::MapLine> lines;
  for (const Pile& pile : made.piles) lines.push_back({pile.outline.rings.front(), true, false, true, pile.id});
  report::TableBlock table{"Each outline over each base",
                           fmt::format("{}; sigma of the net volume from noise, base, block and filled cells; toe: how "
                                       "far it changes where the outline moves out by one cell ({:g} m).",
                                       unit.word, s.grid.cell),
                           {"outline", "base", "fill", "cut", "net", "sigma", "toe", "area, m2"},
                           {},
                           false};
  if (std::isfinite(request.density)) table.header.push_back("tonnes");
  for (const Pile& pile : made.piles)
    for (const Volume& v : pile.volumes) {
      table.rows.push_back({pile.id, std::string(word_of(v.base)), fmt::format("{:.2f}", v.fill / unit.per),
                            fmt::format("{:.2f}", v.cut / unit.per), fmt::format("{:+.2f}", v.net / unit.per),
                            fmt::format("{:.2f}", v.sigma / unit.per), fmt::format("{:+.2f}", v.toe / unit.per),
                            fmt::format("{:.1f}", v.area)});
      if (std::isfinite(request.density)) table.rows.back().push_back(fmt::format("{:.2f}", v.net * request.density));
    }
  const Volume& first = made.piles.front().volumes.front();
  page.verdict.push_back(fmt::format("{}: {:+.2f} {} net over the {}, standard deviation {:.2f}.",
                                     made.piles.front().id, first.net / unit.per, unit.word, word_of(first.base),
                                     first.sigma / unit.per));
  page.notes.push_back(fmt::format(
      "Errors of neighbouring cells are alike over {:.0f} cells; what all heights have in common is {:.3f} m{}.",
      made.alike, made.block, made.block == 0 ? " (no adjusted survey stands behind the surface)" : ""));
  page.sections.push_back(
      {"Volumes",
       {std::move(table)},
       {{"Plan", "Outlines over the surface.", "volumes_plan", draw::surface_drawing(s, {"outlines"}, lines)}},
       {}});
  page.sections.push_back({"Profiles", {}, {}, {}});
  constexpr std::size_t most = 12;  // profiles on a page
  for (std::size_t i = 0; i < std::min(most, made.piles.size()); ++i)
    page.sections.back().pairs.push_back(profile_of(s, made.piles[i]));
  return page;
}

}  // namespace

Json json_of(const VolumesMade& made) {
  Json out{{"files", made.files}, {"alike_cells", made.alike}, {"block_sigma", made.block}};
  out["piles"] = Json::array();
  for (const Pile& pile : made.piles)
    for (const Volume& v : pile.volumes)
      out["piles"].push_back({{"id", pile.id},
                              {"base", word_of(v.base)},
                              {"fill", v.fill},
                              {"cut", v.cut},
                              {"net", v.net},
                              {"sigma", v.sigma},
                              {"toe", v.toe},
                              {"area", v.area},
                              {"surface_area", v.surface_area},
                              {"perimeter", v.perimeter},
                              {"filled_share", v.filled_share}});
  return out;
}

VolumesMade make_volumes(const VolumeRequest& request, const survey::Survey* survey, Progress& progress) {
  const surface::Surface s = surface::read_surface(request.surface);
  VolumesMade out;
  surface::VolumeOptions options;
  options.alike = out.alike = surface::cells_alike(s);
  if (survey) std::tie(options.block, options.scale) = block_sigmas(*survey, s, progress);
  out.block = options.block;
  options.height = request.height * s.metres.z();
  const std::vector<Base> bases = wanted_bases(request);
  std::optional<surface::Surface> other;
  if (!request.against.empty()) {
    other = surface::read_surface(request.against);
    if (!surface::same_crs(s, *other)) {
      other = surface::into_crs(*other, s.wkt, request.against.string());
      progress.say(fmt::format("{}: brought into the CRS of {}, plan and heights", request.against.string(),
                               request.surface.string()));
    }
    options.other = &*other;
  }
  const std::vector<cloud::Polygon> outlines = outlines_of(request, s, progress);
  progress.start("volumes", outlines.size());
  for (const cloud::Polygon& outline : outlines) {
    progress.check();
    out.piles.push_back(measured(s, outline, bases, options, progress));
    progress.advance();
  }
  const Units unit = request.yards ? Units{yard3, "yd3"} : Units{};
  const auto named = [&](const char* ending) { return fs::path(request.out).replace_extension(ending); };
  write_table(named(".csv"), out, request, unit);
  write_outlines(named(".gpkg"), out, s, unit);
  write_file(named(".html"), report::page_html(page_of(out, request, s, unit)));
  for (const char* ending : {".csv", ".gpkg", ".html"}) out.files.push_back(named(ending).string());
  return out;
}

}  // namespace mesograph::stages
