#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/stages/densify.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_densify(Call& call) {
  survey::Survey opened(call.survey);
  stages::DensifyStageOptions options;
  options.spacing = call.number("spacing");
  options.level = call.whole("level");
  options.min_views = call.whole("min-views");
  options.max_sigma = call.number("max-sigma");
  options.out = call.text("out");
  options.only = call.text("only");
  options.within = call.text("within");
  options.tiles = call.number("tiles").value_or(nan);
  options.scale = call.number("scale").value_or(nan);
  options.disk = 1e9 * call.number("disk").value_or(nan);
  options.test_patch = call.has("test-patch");
  if (options.test_patch && !options.within.empty())
    throw UsageError("--test-patch chooses its own region; leave out --within");
  if (std::isfinite(options.tiles) && !(options.tiles > 0)) throw UsageError("--tiles must be greater than 0");
  if (std::isfinite(options.scale) && !(options.scale >= 1e-6 && options.scale <= 1))
    throw UsageError("--scale must be from 0.000001 to 1");
  options.maps = call.whole("maps").value_or(0);
  options.normals = call.has("normals");
  options.force = call.has("force");
  options.sweep = call.has("sweep");
  const auto outcome = stages::densify(opened, options, call.progress);
  const stages::Densified& d = outcome.result;
  call.json = json_of(d);
  call.lines.push_back(fmt::format("{}: {} points, spacing {:.3f} m, {:.0f} points a square metre{}", d.file, d.points,
                                   d.spacing, d.density, standing_words(call, opened, "densify", outcome.made)));
  if (d.check_heights)
    call.lines.push_back(fmt::format("heights at {} surveyed points: RMSE {:.3f} m, mean {:+.3f} m",
                                     d.check_heights->count, d.check_heights->rmse, d.check_heights->mean));
  if (d.foretold) {
    const double seconds = d.foretold->seconds;
    const std::string time = !std::isfinite(seconds) ? "time unknown, for its depth maps were there already"
                             : seconds < 120         ? fmt::format("about {:.0f} s", seconds)
                                                     : fmt::format("about {:.0f} min", seconds / 60);
    call.lines.push_back(fmt::format(
        "this patch is seen by {} of {} photos; the whole: {}, {:.1f} million points, {:.2f} GB of LAS, {:.2f} GB on "
        "the way",
        d.foretold->patch_photos, d.foretold->photos, time, d.foretold->points / 1e6, d.foretold->las_gb,
        d.foretold->disk_gb));
  }
}

}  // namespace

Command densify_command() {
  return {
      "densify",
      "makes a dense, georeferenced LAS cloud from the adjusted block",
      "",
      {{"spacing", "of the points, m (default 2 GSD)", Takes::number},
       {"level", "0 full, 1 half, 2 quarter size of the photos (default from the spacing)", Takes::whole},
       {"min-views", "photos that must agree on a point (default 2)", Takes::whole},
       {"max-sigma", "most standard deviation of a point from matching, m (default 10 GSD)", Takes::number},
       {"within", "box west,south,east,north in the survey's CRS, or a polygon file in any", Takes::text},
       {"only", "photos of this sortie alone", Takes::text},
       {"test-patch", "a small region in the middle of the block, to results/patch.las; foretells time and size"},
       {"tiles", "writes squares of this side, units of the CRS, with an index", Takes::number},
       {"scale", "of LAS coordinates, units of the CRS (default 0.001)", Takes::number},
       {"maps", "depth maps of so many photos that each place is in N of them (default: of all photos)", Takes::whole},
       {"normals", "of the surface as attributes of LAS files (PLY always has them)"},
       {"disk", "GB that depth maps may fill; those not needed are removed then (default: all are kept)",
        Takes::number},
       {"sweep", "removes what the store keeps of other levels, regions, sorties and adjustments"},
       {"force", "takes an adjustment that is out of date as it is"},
       {"out", "file, .las, .laz or .ply (default results/cloud, as [densify] format says)", Takes::text}},
      run_densify};
}

}  // namespace mesograph::app
