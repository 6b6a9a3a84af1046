#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/run_program.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "cloud_actions.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

draw::Shown shown_of(const Call& call, const cloud::LasHeader& header) {
  static const std::map<std::string, draw::Shown> known = {
      {"colour", draw::Shown::colour}, {"height", draw::Shown::height}, {"class", draw::Shown::point_class},
      {"sigma", draw::Shown::sigma},   {"rays", draw::Shown::rays},     {"density", draw::Shown::density},
      {"shade", draw::Shown::shade}};
  const std::string by = call.has("by") ? call.text("by") : header.has_colour() ? "colour" : "height";
  const auto found = known.find(by);
  if (found == known.end()) throw UsageError("--by {}: give colour, height, class, sigma, rays, density or shade", by);
  const std::string& file = call.paths()[1];
  if (by == "sigma" && !cloud::sigma_of(header))
    throw Error("{}: has neither sigma_z nor sigma_match; show it --by height", file);
  if (by == "rays" && !header.attribute("rays")) throw Error("{}: does not say its rays; show it --by density", file);
  if (by == "colour" && !header.has_colour()) throw Error("{}: its points have no colours; show it --by height", file);
  return found->second;
}

namespace {

/// "above", AZIMUTH or AZIMUTH:RISE. Throws UsageError.
draw::Eye eye_of(const std::string& text) {
  if (text == "above") return {};
  draw::Eye out{0, 35};
  char* end = nullptr;
  out.azimuth_deg = std::strtod(text.c_str(), &end);
  if (end != text.c_str() && *end == ':') {
    const char* rise = end + 1;
    out.rise_deg = std::strtod(rise, &end);
    if (end == rise) end = const_cast<char*>("?");
  }
  if (text.empty() || end == text.c_str() || *end != '\0' || !std::isfinite(out.azimuth_deg) ||
      !(out.rise_deg >= -90 && out.rise_deg <= 90))
    throw UsageError(
        "--from {}: give above, or an azimuth in degrees, as in 200, with degrees above the level behind, as in 200:20",
        text);
  return out;
}

std::vector<draw::Eye> eyes_of(const Call& call) {
  std::vector<draw::Eye> out;
  for (const std::string& text : call.list("from")) out.push_back(eye_of(text));
  constexpr std::size_t most = 12;
  if (out.size() > most) throw UsageError("--from: {} views at most", most);
  return out;
}

/// File, system, and from where where one view does not say it itself.
std::string title_of(const cloud::LasReader& file, const std::vector<draw::Eye>& eyes) {
  const std::string crs = crs_name(file.header());
  const auto& box = file.header().box;
  return fmt::format("{}{}{}, {:.0f} to {:.0f} east, {:.0f} to {:.0f} north", file.path().filename().string(),
                     eyes.size() == 1 ? ", " + eyes[0].words() : "", crs.empty() ? "" : ", " + crs, box.min().x(),
                     box.max().x(), box.min().y(), box.max().y());
}

/// Numbered pictures in a folder, and a film of them where ffmpeg is installed.
void run_flight(Call& call, cloud::LasReader& file, const cloud::Description& described,
                const draw::CloudView::Options& view, std::vector<draw::Eye> eyes, int frames, const fs::path& out) {
  if (frames < 2 || frames > 10000) throw UsageError("--flight must be from 2 to 10000 pictures");
  if (eyes.empty()) eyes = {draw::Eye{180, 35}};
  const fs::path folder = fs::path(out).replace_extension();
  draw::fly(
      file, described, view, draw::flight_of(eyes, frames),
      [&](std::size_t i, const std::string& png) { write_file(folder / fmt::format("{:04}.png", i + 1), png); },
      call.progress);
  call.json["folder"] = folder.string(), call.json["frames"] = frames;
  call.lines.push_back(fmt::format("{}: {} pictures, 0001.png to {:04}.png", folder.string(), frames, frames));
  if (out.extension() == ".png") return;
  call.progress.start("making the film", 1);
  const fs::path scratch = scratch_path(out);
  // No longer than this flight: pictures of a longer one may lie in the folder yet.
  std::vector<std::string> words = {"ffmpeg",     "-loglevel",
                                    "error",      "-y",
                                    "-framerate", "25",
                                    "-t",         fmt::format("{:.2f}", frames / 25.0),
                                    "-i",         (folder / "%04d.png").string()};
  if (out.extension() == ".mp4")
    words.insert(words.end(), {"-c:v", "libx264", "-pix_fmt", "yuv420p", "-f", "mp4"});
  else
    words.insert(words.end(), {"-vf", "split[a][b];[a]palettegen[p];[b][p]paletteuse", "-f", "gif"});
  words.push_back(scratch.string());
  bool made = false;
  try {
    made = run_program(words, call.progress);
  } catch (...) {
    drop_scratch(scratch);
    throw;
  }
  if (made) {
    commit_file(scratch, out);
    call.json["film"] = out.string();
    call.lines.push_back(fmt::format("{}: the film, 25 pictures a second", out.string()));
  } else {
    drop_scratch(scratch);
    call.progress.say(
        fmt::format("{} is not made, because ffmpeg is missing or failed; install the package ffmpeg", out.string()));
  }
}

}  // namespace

void run_render(Call& call) {
  const bool flight = call.has("flight");
  const fs::path wanted = call.text("out");
  const bool film = flight && (wanted.empty() || wanted.extension() == ".mp4");
  const CloudFiles files = cloud_files(call, film ? ".mp4" : flight && wanted.extension() == ".gif" ? ".gif" : ".png");
  const std::vector<draw::Eye> eyes = eyes_of(call);
  cloud::LasReader file(files.in);
  const cloud::LasHeader& h = file.header();
  if (h.points == 0) throw Error("{}: holds no point", files.in.string());
  draw::CloudView::Options options;
  options.shown = shown_of(call, h);
  options.width = call.whole("pixels").value_or(1280);
  if (options.width < 200 || options.width > 20000) throw UsageError("--pixels must be from 200 to 20000");
  // Of a cloud in an octree's order no more is read than pixels can show.
  const Eigen::Vector3d extent = h.box.sizes();
  if (options.shown != draw::Shown::density && file.only({}, std::max(extent.x(), extent.y()) / options.width))
    call.progress.say(fmt::format("{} of its {} points are as fine as the picture's pixels", file.to_read(), h.points));
  const cloud::Description d = cloud::describe(file, call.progress);
  say_oddities(call, d.oddities);
  if (flight) return run_flight(call, file, d, options, eyes, call.whole("flight").value_or(0), files.out);
  draw::CloudSheetOptions sheet;
  sheet.view = options;
  if (!eyes.empty()) sheet.eyes = eyes;
  sheet.title = title_of(file, sheet.eyes);
  write_file(files.out, draw::cloud_sheet(file, d, sheet, call.progress));
  call.json["file"] = files.out.string(), call.json["points"] = h.points, call.json["views"] = sheet.eyes.size();
  call.lines.push_back(fmt::format("{}: {} points", files.out.string(), h.points));
}

}  // namespace mesograph::app
