#include <mesograph/survey/advise.hpp>
#include <mesograph/survey/set_aside.hpp>
#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::string accuracy_line(const char* name, const nlohmann::ordered_json& a) {
  if (a.is_null()) return fmt::format("{:<8} none", name);
  const auto number = [&](const char* key) {
    return a[key].is_number() ? fmt::format("{:.4f}", a[key].get<double>()) : "-";
  };
  return fmt::format("{:<8} {:>3} points, RMSE east {} north {} height {} m", name, a["count"].get<int>(),
                     number("rmse_east"), number("rmse_north"), number("rmse_height"));
}

void run_adjust(Call& call) {
  survey::Survey opened(call.survey);
  survey::AdjustStageOptions options;
  if (call.has("free")) options.free = call.list("free");
  options.fix_camera = call.has("fix-camera");
  options.hold_out = call.list("hold-out");
  options.snoop = call.has("snoop");
  options.without = survey::items_from(call.list("without"));
  options.with = call.list("with");
  options.as = call.text("as");
  if (options.as.find_first_of("/\\") != std::string::npos || options.as == "." || options.as == "..")
    throw UsageError("--as {}: must be a plain name, not a path", options.as);
  if (const auto n = optional_value<int>(call, "advise"); n && (*n < 1 || *n > 50))
    throw UsageError("--advise {}: ask for 1 to 50 places", *n);
  const survey::Outcome outcome = survey::adjust(opened, options, call.progress);
  call.json = outcome.summary;
  say_behind(call, outcome);
  const auto number = [&](const char* key, int decimals, double factor) {
    return call.json[key].is_number() ? fmt::format("{:.{}f}", factor * call.json[key].get<double>(), decimals) : "-";
  };
  call.lines.push_back(fmt::format(
      "{} photos, {} tie points, {} observations, redundancy {}, sigma0 {}, reprojection {} px, {} % of ties "
      "rejected{}",
      call.json["photos"].get<int>(), call.json["tie_points"].get<int>(), call.json["observations"].get<int>(),
      call.json["redundancy"].get<int>(), number("sigma0", 3, 1), number("reprojection_rms_px", 2, 1),
      number("rejected_share", 1, 100), standing_words(outcome)));
  call.lines.push_back(accuracy_line("control", call.json["control"]));
  call.lines.push_back(accuracy_line("check", call.json["check"]));
  call.lines.push_back(accuracy_line("left out", call.json["left_out"]));
  if (!options.as.empty()) call.lines.push_back("kept in results/as/" + options.as);
  if (const auto n = optional_value<int>(call, "advise")) {
    call.json["advice"] = survey::advise(opened, *n, call.progress);
    for (const auto& a : call.json["advice"])
      call.lines.push_back(fmt::format(
          "advice {}: a target near east {:.1f} north {:.1f}, in {} photos; largest height sigma {:.4f} -> {:.4f} m",
          a["place"].get<int>(), a["east"].get<double>(), a["north"].get<double>(), a["photos"].get<int>(),
          a["before"].get<double>(), a["after"].get<double>()));
  }
  if (const auto& s = call.json["sightings"]; s["unconfirmed"].get<int>() > 0)
    call.lines.push_back(
        fmt::format("{} of {} sightings unconfirmed", s["unconfirmed"].get<int>(), s["used"].get<int>()));
}

}  // namespace

Command adjust_command() {
  return {"adjust", "adjusts the block with its control, writes stations, cameras and residuals", "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("free", "camera parameters to estimate (default c,x0,y0,k1,k2,k3,p1,p2)", list_value());
            add("fix-camera", "hold all camera parameters");
            add("snoop", "sets the worst suspect aside and adjusts again, until nothing stands out");
            add("without",
                "leaves observations out from now on: K05, K05:height, K05@PHOTO, position@PHOTO, bar:B1, or a CSV "
                "file with a column item",
                list_value());
            add("with", "takes observations in again that --without left out", list_value());
            add("advise", "proposes so many places where another target would help most", cxxopts::value<int>());
            add("as", "keeps the result in results/as/NAME, beside the one that stands", cxxopts::value<std::string>());
            add("hold-out", "control points that are checks in this run", list_value());
          },
          run_adjust};
}

}  // namespace mesograph::app
