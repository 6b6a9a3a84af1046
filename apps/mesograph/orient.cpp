#include <fmt/format.h>

#include <mesograph/stages/orient.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::string sorties_text(const std::map<std::string, int>& sorties) {
  std::vector<std::string> words;
  for (const auto& [name, n] : sorties) words.push_back(fmt::format("{} of {}", n, name));
  return fmt::format("{}", fmt::join(words, ", "));
}

std::string percent(const std::optional<double>& share) {
  return share && std::isfinite(*share) ? fmt::format("{:.0f} %", 100 * *share) : std::string("unknown");
}

void print_blocks(Call& call, const stages::Oriented& o) {
  if (o.blocks.size() > 1)
    for (const stages::OrientedPart& b : o.blocks)
      call.lines.push_back(fmt::format("  {}: {} photos ({}), stands on {}", b.name, b.photos, sorties_text(b.sorties),
                                       word_of(b.datum)));
  for (const stages::OrientedSortie& s : o.sorties) {
    std::string shift, flown;
    if (s.shift.allFinite())
      shift = fmt::format("; positions shifted by east {:+.2f}, north {:+.2f}, height {:+.2f} m", s.shift.x(),
                          s.shift.y(), s.shift.z());
    if (s.above_ground && std::isfinite(*s.above_ground))
      flown = fmt::format(", {:.0f} m above ground, overlap {} forward, {} sideways", *s.above_ground,
                          percent(s.forward_overlap), percent(s.side_overlap));
    call.lines.push_back(fmt::format("  {}: {} of {} photos{}{}", s.name, s.oriented, s.photos, flown, shift));
  }
  for (const stages::OrientedCamera& c : o.cameras)
    call.lines.push_back(
        fmt::format("  camera {}: principal distance {:.1f} px at the start, {:.1f} px now", c.name, c.c_start, c.c));
  std::vector<std::string> weak;
  for (const stages::WeakLink& w : o.weakest)
    weak.push_back(fmt::format("{} - {} ({} points)", w.image_a, w.image_b, w.points));
  if (!weak.empty()) call.lines.push_back(fmt::format("  weakest connections: {}", fmt::join(weak, ", ")));
}

void run_orient(Call& call) {
  survey::Survey opened(call.survey);
  const bool preview = call.has("preview");
  const auto outcome = preview ? stages::preview(opened, call.progress) : stages::orient(opened, call.progress);
  const stages::Oriented& o = outcome.result;
  call.json = json_of(o);
  const std::string gsd =
      std::isfinite(o.gsd) ? fmt::format("GSD {:.3f} m", o.gsd) : std::string("free: scale and place unknown");
  // One that is made now is made from what its tie points are, whatever options they were found with.
  const std::string standing =
      preview || outcome.made ? std::string() : standing_words(call, opened, "orient", outcome.made);
  call.lines.push_back(fmt::format("{}{} of {} photos oriented in {} {}, reprojection {:.2f} px (median {:.2f}), {}{}",
                                   preview ? "PREVIEW, not for use: " : "", o.oriented, o.photos, o.components,
                                   o.components == 1 ? "block" : "blocks", o.reprojection_rms_px, o.median_residual_px,
                                   gsd, standing));
  print_blocks(call, o);
  const auto results = preview ? opened.results() / "preview" : opened.results();
  call.lines.push_back(fmt::format("  look at {}", (results / "figures" / "block.png").string()));
}

}  // namespace

Command orient_command() {
  return {"orient",
          "orients the photos from their tie points",
          "",
          {{"preview", "ties and orients at reduced resolution, into results/preview"}},
          run_orient};
}

}  // namespace mesograph::app
