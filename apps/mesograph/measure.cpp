#include <mesograph/base/errors.hpp>
#include <mesograph/stages/measure.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_measure(Call& call) {
  if (call.paths().size() != 2) throw UsageError("measure needs two points, as in mesograph measure K01 K02");
  const survey::Survey opened(call.survey, survey::Access::look);
  const stages::Measured m = stages::measure(opened, call.paths()[0], call.paths()[1]);
  call.json = {{"from", call.paths()[0]}, {"to", call.paths()[1]}};
  call.json.update(json_of(m));
  const auto sigma = [](double v, int decimals) {
    return std::isfinite(v) ? fmt::format("sigma {:.{}f}", v, decimals) : std::string("sigma unknown");
  };
  const auto line = [&](const char* what, double v, double s, const std::string& note) {
    call.lines.push_back(fmt::format("{:<18} {:>12.4f} m   {:<14} {}", what, v, sigma(s, 4), note));
  };
  line("slope distance", m.slope, m.sigma_slope,
       std::isfinite(m.surveyed) ? fmt::format("surveyed coordinates: {:.4f} m", m.surveyed) : "");
  line("ground distance", m.ground, m.sigma_ground, "level, at the mean height of both");
  line("grid distance", m.grid, m.sigma_grid,
       fmt::format("in the plan of the CRS; grid / ground {:.8f}", m.grid / m.ground));
  line("rise", m.rise, m.sigma_rise, "");
  call.lines.push_back(fmt::format("{:<18} {:>12.5f} deg {:<14} from grid north", "direction", m.direction_deg,
                                   sigma(m.sigma_direction_deg, 5)));
}

}  // namespace

Command measure_command() {
  return {"measure", "slope, ground and grid distance between two points", "A B", {}, run_measure};
}

}  // namespace mesograph::app
