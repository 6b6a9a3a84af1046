#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/export.hpp>
#include <mesograph/stages/tie_figures.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_export(Call& call) {
  stages::ExportOptions options;
  options.what = call.only_path("kind, as in export stations");
  options.image = call.text("image");
  options.worst = call.whole("worst");
  if (options.worst) {
    if (options.what != "residuals" || *options.worst < 1)
      throw UsageError("--worst N lists the N largest residuals: export residuals --worst 20");
  }
  if (call.has("pair")) {
    const auto pair = call.list("pair");
    if (pair.size() != 2) throw UsageError("--pair {}: write two photos, as in --pair A.jpg,B.jpg", call.text("pair"));
    options.pair = {pair[0], pair[1]};
  }
  const survey::Survey opened(call.survey, survey::Access::look);
  if (call.has("figure")) {
    if (options.what != "matches" || !options.pair)
      throw UsageError("--figure draws the matches of a pair: export matches --pair A.jpg,B.jpg --figure");
    const std::string file =
        call.has("out") ? call.text("out") : (opened.results() / "figures" / "matches.png").string();
    write_file(file, stages::matches_figure(opened, options.pair->first, options.pair->second));
    call.json = {{"files", nlohmann::json::array({file})}, {"rows", nullptr}};
    call.lines.push_back(file + ": drawn");
    return;
  }
  if (options.what == "depth") {
    if (options.image.empty()) throw UsageError("export depth needs a photo: export depth --image A.jpg");
    const std::filesystem::path name = std::filesystem::path(options.image).filename().replace_extension(".tif");
    const std::string file = call.has("out") ? call.text("out") : (opened.results() / "depth" / name).string();
    stages::export_depth(opened, options.image, file);
    call.json = {{"files", nlohmann::json::array({file})}, {"rows", nullptr}};
    call.lines.push_back(file + ": written");
    return;
  }
  const stages::ExportText text = stages::export_text(opened, options);
  const std::string out = call.has("out") ? call.text("out") : (opened.results() / text.file_name).string();
  call.json = {{"files", nlohmann::json::array({out})}, {"rows", text.rows}};
  if (out == "-") {
    call.lines.push_back(text.text.substr(0, text.text.find_last_not_of('\n') + 1));
    return;
  }
  write_file(out, text.text);
  call.lines.push_back(fmt::format("{}: {} rows", out, text.rows));
}

}  // namespace

Command export_command() {
  return {"export",
          "writes photos, stations, cameras, ties, keypoints, matches, points, control, sightings, residuals or depth",
          "WHAT",
          {{"out", "file, or - for stdout (default results/WHAT.csv)", Takes::text},
           {"worst", "with residuals: so many, the largest over their sigma first", Takes::whole},
           {"pair", "matches of two photos: A,B", Takes::list},
           {"figure", "with matches --pair: draws them over the photos (results/figures/matches.png)"},
           {"image", "keypoints, matches, residuals or depth of one photo", Takes::text}},
          run_export};
}

}  // namespace mesograph::app
