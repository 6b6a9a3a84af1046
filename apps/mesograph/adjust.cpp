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
  const survey::Outcome outcome = survey::adjust(opened, options, call.progress);
  call.json = outcome.summary;
  call.lines.push_back(
      fmt::format("{} photos, {} tie points, {} observations, redundancy {}, sigma0 {:.3f}, reprojection {:.2f} px, "
                  "{:.1f} % of ties "
                  "rejected{}",
                  call.json["photos"].get<int>(), call.json["tie_points"].get<int>(),
                  call.json["observations"].get<int>(), call.json["redundancy"].get<int>(),
                  call.json["sigma0"].get<double>(), call.json["reprojection_rms_px"].get<double>(),
                  100 * call.json["rejected_share"].get<double>(), outcome.made ? "" : " (current)"));
  call.lines.push_back(accuracy_line("control", call.json["control"]));
  call.lines.push_back(accuracy_line("check", call.json["check"]));
  if (const auto& s = call.json["sightings"]; s["unconfirmed"].get<int>() > 0)
    call.lines.push_back(
        fmt::format("{} of {} sightings unconfirmed", s["unconfirmed"].get<int>(), s["used"].get<int>()));
}

}  // namespace

Command adjust_command() {
  return {"adjust", "adjusts the block with its control, writes stations, cameras and residuals", "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("free", "camera parameters to estimate (default c,x0,y0,k1,k2,k3,p1,p2)",
                cxxopts::value<std::string>());
            add("fix-camera", "hold all camera parameters");
            add("hold-out", "control points that are checks in this run", cxxopts::value<std::string>());
          },
          run_adjust};
}

}  // namespace mesograph::app
