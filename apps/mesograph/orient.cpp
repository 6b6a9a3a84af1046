#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

using Json = nlohmann::ordered_json;

std::string sorties_text(const Json& sorties) {
  std::vector<std::string> words;
  for (const auto& [name, n] : sorties.items()) words.push_back(fmt::format("{} of {}", n.get<int>(), name));
  return fmt::format("{}", fmt::join(words, ", "));
}

void print_blocks(Call& call) {
  if (call.json["blocks"].size() > 1)
    for (const Json& b : call.json["blocks"])
      call.lines.push_back(fmt::format("  {}: {} photos ({}), stands on {}", b["name"].get<std::string>(),
                                       b["photos"].get<int>(), sorties_text(b["sorties"]),
                                       b["datum"].get<std::string>()));
  for (const Json& s : call.json["sorties"]) {
    std::string shift;
    if (s.contains("shift"))
      shift = fmt::format("; positions shifted by east {:+.2f}, north {:+.2f}, height {:+.2f} m",
                          s["shift"][0].get<double>(), s["shift"][1].get<double>(), s["shift"][2].get<double>());
    std::string flown;
    const auto percent = [](const Json& share) {
      return share.is_number() ? fmt::format("{:.0f} %", 100 * share.get<double>()) : std::string("unknown");
    };
    if (s.contains("above_ground") && s["above_ground"].is_number())
      flown = fmt::format(", {:.0f} m above ground, overlap {} forward, {} sideways", s["above_ground"].get<double>(),
                          percent(s["forward_overlap"]), percent(s["side_overlap"]));
    call.lines.push_back(fmt::format("  {}: {} of {} photos{}{}", s["name"].get<std::string>(),
                                     s["oriented"].get<int>(), s["photos"].get<int>(), flown, shift));
  }
  for (const Json& c : call.json["cameras"])
    call.lines.push_back(fmt::format("  camera {}: principal distance {:.1f} px at the start, {:.1f} px now",
                                     c["name"].get<std::string>(), c["c_start"].get<double>(), c["c"].get<double>()));
  std::vector<std::string> weak;
  for (const Json& w : call.json["weakest"])
    weak.push_back(fmt::format("{} - {} ({} points)", w["image_a"].get<std::string>(), w["image_b"].get<std::string>(),
                               w["points"].get<int>()));
  if (!weak.empty()) call.lines.push_back(fmt::format("  weakest connections: {}", fmt::join(weak, ", ")));
}

void run_orient(Call& call) {
  survey::Survey opened(call.survey);
  const bool preview = call.has("preview");
  const survey::Outcome outcome =
      preview ? survey::preview(opened, call.progress) : survey::orient(opened, call.progress);
  call.json = outcome.summary;
  say_behind(call, outcome);
  const std::string gsd = call.json["gsd"].is_number() ? fmt::format("GSD {:.3f} m", call.json["gsd"].get<double>())
                                                       : std::string("free: scale and place unknown");
  const auto blocks = call.json["components"].get<int>();
  call.lines.push_back(fmt::format("{}{} of {} photos oriented in {} {}, reprojection {:.2f} px (median {:.2f}), {}{}",
                                   preview ? "PREVIEW, not for use: " : "", call.json["oriented"].get<int>(),
                                   call.json["photos"].get<int>(), blocks, blocks == 1 ? "block" : "blocks",
                                   call.json["reprojection_rms_px"].get<double>(),
                                   call.json["median_residual_px"].get<double>(), gsd, standing_words(outcome)));
  print_blocks(call);
  const auto results = preview ? opened.results() / "preview" : opened.results();
  call.lines.push_back(fmt::format("  look at {}", (results / "figures" / "block.png").string()));
}

}  // namespace

Command orient_command() {
  return {"orient", "orients the photos from their tie points", "",
          [](cxxopts::Options& options) {
            options.add_options()("preview", "ties and orients at reduced resolution, into results/preview");
          },
          run_orient};
}

}  // namespace mesograph::app
