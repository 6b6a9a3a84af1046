#include <mesograph/base/errors.hpp>
#include <mesograph/stages/compare.hpp>

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

void run_compare(Call& call) {
  if (call.paths().size() != 2) throw UsageError("compare needs two surfaces, the earlier one first");
  stages::CompareRequest request;
  request.earlier = raster_of(call.paths()[0]), request.later = raster_of(call.paths()[1]);
  if (call.has("fit")) {
    const auto fit = from_word<surface::Fit>(call.text("fit"));
    if (!fit) throw UsageError("--fit {}: write none, height or similarity", call.text("fit"));
    request.options.fit = *fit;
  }
  request.stable = call.text("stable");
  request.options.confidence = call.number("confidence").value_or(95) / 100;
  if (!(request.options.confidence >= 0.5 && request.options.confidence < 1))
    throw UsageError("--confidence must be from 50 to 99.99, in percent");
  request.options.least_area = call.number("least-area").value_or(0);
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
          "says what changed between two surfaces, and what is no more than error",
          "EARLIER LATER",
          {{"fit", "onto stable ground first: none, height (default) or similarity", Takes::text},
           {"stable", "file of polygons of stable ground (default: found)", Takes::text},
           {"confidence", "that nothing is reported where nothing changed, percent (default 95)", Takes::number},
           {"least-area", "smaller changes are not reported, m2", Takes::number},
           {"out", "folder (default that of the later surface)", Takes::text}},
          run_compare};
}

}  // namespace mesograph::app
