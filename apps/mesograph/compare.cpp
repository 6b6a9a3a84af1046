#include <mesograph/base/errors.hpp>
#include <mesograph/stages/compare.hpp>
#include <mesograph/stages/compare_clouds.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// A raster, or that of a survey's results.
fs::path raster_of(const std::string& text) {
  fs::path path = text;
  if (!fs::is_directory(path)) return path;
  fs::path own = path / "results" / "surface_top.tif";
  if (!fs::exists(own)) throw Error("{}: has no results/surface_top.tif; mesograph surface makes it", text);
  return own;
}

surface::CompareOptions options_of(const Call& call) {
  surface::CompareOptions out;
  if (call.has("fit")) {
    const auto fit = from_word<surface::Fit>(call.text("fit"));
    if (!fit) throw UsageError("--fit {}: write none, height or similarity", call.text("fit"));
    out.fit = *fit;
  }
  out.confidence = call.number("confidence").value_or(95) / 100;
  if (!(out.confidence >= 0.5 && out.confidence < 1))
    throw UsageError("--confidence must be from 50 to 99.99, in percent");
  out.least_area = call.number("least-area").value_or(0);
  return out;
}

/// The cloud itself, or that of a survey's results.
fs::path cloud_of(const std::string& text) {
  fs::path path = text;
  if (!fs::is_directory(path)) return path;
  for (const char* name : {"cloud_clean.las", "cloud_clean.laz", "cloud.las", "cloud.laz"})
    if (fs::path own = path / "results" / name; fs::exists(own)) return own;
  throw Error("{}: has no results/cloud.las or .laz; mesograph densify makes it", text);
}

void run_along_normals(Call& call) {
  stages::CompareCloudsRequest request;
  request.options = options_of(call);
  request.stable = call.text("stable");
  request.distances.scale = call.number("scale").value_or(nan);
  request.distances.reach = call.number("reach").value_or(nan);
  for (const char* name : {"scale", "reach"})
    if (call.has(name) && !(*call.number(name) > 0)) throw UsageError("--{} must be greater than 0, m", name);
  request.earlier = cloud_of(call.paths()[0]), request.later = cloud_of(call.paths()[1]);
  request.out = call.has("out") ? fs::path(call.text("out")) : request.later.parent_path();
  const stages::ComparedClouds made = stages::compare_clouds(request, call.progress);
  call.json = stages::json_of(made);
  const surface::NormalComparison& c = made.comparison;
  call.lines.push_back(fmt::format(
      "{} places, {} more without later points near their normal; what stands: {:.0f} %, mean {:+.4f} m, standard "
      "deviation {:.4f} m",
      made.places, made.alone, 100 * c.fit.stable_share, c.fit.stable_mean, c.fit.stable_sigma));
  if (c.changes.empty())
    call.lines.push_back(fmt::format("no change beyond error, at {:g} % confidence", 100 * request.options.confidence));
  else
    call.lines.push_back(fmt::format("{:<7} {:>12} {:>12} {:>9} {:>10} {:>11} {:>7} {:>9}", "change", "east", "north",
                                     "height", "area, m2", "distance, m", "sigma", "largest"));
  constexpr std::size_t most = 20;
  for (std::size_t i = 0; i < std::min(most, c.changes.size()); ++i) {
    const surface::NormalChange& change = c.changes[i];
    call.lines.push_back(fmt::format("{:<7} {:>12.1f} {:>12.1f} {:>9.1f} {:>10.2f} {:>+11.3f} {:>7.3f} {:>+9.3f}",
                                     change.id, change.middle.x(), change.middle.y(), change.middle.z(), change.area,
                                     change.distance, change.sigma, change.largest));
  }
  if (c.changes.size() > most) call.lines.push_back(fmt::format("and {} smaller ones", c.changes.size() - most));
  for (const std::string& file : made.files) call.lines.push_back("  " + file);
}

void run_compare(Call& call) {
  if (call.paths().size() != 2)
    throw UsageError("compare needs two surfaces, clouds or surveys, the earlier one first");
  if (call.has("normals")) {
    run_along_normals(call);
    return;
  }
  for (const char* name : {"scale", "reach"})
    if (call.has(name)) throw UsageError("--{} goes with --normals", name);
  stages::CompareRequest request;
  request.earlier = raster_of(call.paths()[0]), request.later = raster_of(call.paths()[1]);
  request.options = options_of(call);
  request.stable = call.text("stable");
  request.out = call.has("out") ? fs::path(call.text("out")) : request.later.parent_path();
  const stages::Compared made = stages::compare_files(request, call.progress);
  call.json = stages::json_of(made);
  const surface::Comparison& c = made.comparison;
  call.lines.push_back(fmt::format("stable ground: {:.0f} % of {:.0f} m2, mean {:+.4f} m, standard deviation {:.4f} m",
                                   100 * c.fit.stable_share, c.area, c.fit.stable_mean, c.fit.stable_sigma));
  if (request.options.fit != surface::Fit::none)
    call.lines.push_back(
        fmt::format("the later surface was taken down by {:+.4f} m, standard deviation {:.4f} m{}", c.fit.values[2],
                    c.fit.sigmas[2],
                    request.options.fit == surface::Fit::similarity
                        ? fmt::format(", and moved by {:+.3f}, {:+.3f} m in plan", -c.fit.values[0], -c.fit.values[1])
                        : ""));
  if (c.changes.empty())
    call.lines.push_back(fmt::format("no change beyond error, at {:g} % confidence", 100 * request.options.confidence));
  constexpr std::size_t most = 20;
  if (!c.changes.empty())
    call.lines.push_back(fmt::format("{:<7} {:>10} {:>10} {:>10} {:>10} {:>8} {:>9}", "change", "area, m2", "grown, m3",
                                     "gone", "net", "sigma", "largest"));
  for (std::size_t i = 0; i < std::min(most, c.changes.size()); ++i) {
    const surface::Change& change = c.changes[i];
    call.lines.push_back(fmt::format("{:<7} {:>10.1f} {:>10.2f} {:>10.2f} {:>+10.2f} {:>8.2f} {:>+8.2f}m", change.id,
                                     change.area, change.fill, change.cut, change.fill - change.cut, change.sigma,
                                     change.deepest));
  }
  if (c.changes.size() > most) call.lines.push_back(fmt::format("and {} smaller ones", c.changes.size() - most));
  for (const std::string& file : made.files) call.lines.push_back("  " + file);
}

}  // namespace

Command compare_command() {
  return {"compare",
          "says what changed between two surfaces, clouds or surveys, and what is no more than error",
          "EARLIER LATER",
          {{"normals", "clouds along the normals of the earlier one, for walls and steep ground"},
           {"scale", "with --normals: width of what is compared at a place, m (default six spacings)", Takes::number},
           {"reach", "with --normals: how far the later cloud is looked for, m (default ten scales)", Takes::number},
           {"fit", "onto stable ground first: none, height (default) or similarity", Takes::text},
           {"stable", "file of polygons of stable ground (default: found)", Takes::text},
           {"confidence", "that nothing is reported where nothing changed, percent (default 95)", Takes::number},
           {"least-area", "smaller changes are not reported, m2", Takes::number},
           {"out", "folder (default that of the later surface)", Takes::text}},
          run_compare};
}

}  // namespace mesograph::app
