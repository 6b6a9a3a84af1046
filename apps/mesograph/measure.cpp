#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/mesh/solid.hpp>
#include <mesograph/stages/measure.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::string sigma_words(double v, int decimals) {
  return std::isfinite(v) ? fmt::format("sigma {:.{}f}", v, decimals) : std::string("sigma unknown");
}

/// Where both ends are on a mesh, and whether that was measured.
void say_places(Call& call, const stages::Measured& m) {
  if (!std::isfinite(m.from_off)) return;
  call.lines.push_back(fmt::format("on the mesh: {} lies {:.3f} m from it, {} {:.3f} m{}", call.paths()[0], m.from_off,
                                   call.paths()[1], m.to_off,
                                   m.guessed ? "; an end is on a guess, which nobody measured" : ""));
}

void measure_two(Call& call, const stages::Tape& tape) {
  const stages::Measured m = tape.measure(call.paths()[0], call.paths()[1]);
  call.json = {{"from", call.paths()[0]}, {"to", call.paths()[1]}};
  call.json.update(json_of(m));
  const auto line = [&](const char* what, double v, double s, const std::string& note) {
    call.lines.push_back(fmt::format("{:<18} {:>12.4f} m   {:<14} {}", what, v, sigma_words(s, 4), note));
  };
  line("slope distance", m.slope, m.sigma_slope,
       std::isfinite(m.surveyed) ? fmt::format("surveyed coordinates: {:.4f} m", m.surveyed) : "");
  line("ground distance", m.ground, m.sigma_ground, "level, at the mean height of both");
  line("grid distance", m.grid, m.sigma_grid,
       fmt::format("in the plan of the CRS; grid / ground {:.8f}", m.grid / m.ground));
  line("rise", m.rise, m.sigma_rise, "");
  call.lines.push_back(fmt::format("{:<18} {:>12.5f} deg {:<14} from grid north", "direction", m.direction_deg,
                                   sigma_words(m.sigma_direction_deg, 5)));
  say_places(call, m);
}

void check_lengths(Call& call, const stages::Tape& tape) {
  const std::vector<stages::LengthCheck> all = tape.check(call.text("lengths"));
  call.json["lengths"] = json_of(all);
  call.lines.push_back(fmt::format("{:<10} {:<10} {:<10} {:>12} {:>12} {:>10} {:>8} {:>6}", "id", "from", "to",
                                   "taped, m", "found, m", "found-taped", "sigma", "w"));
  double squares = 0, sum = 0;
  std::size_t beyond = 0;
  constexpr double limit = 3.29;  // one in a thousand, as for all else
  for (const stages::LengthCheck& c : all) {
    squares += c.difference * c.difference, sum += c.difference;
    const bool large = std::abs(c.w) > limit;
    beyond += large ? 1 : 0;
    const double sigma = std::hypot(c.sigma, c.sigma_taped);
    call.lines.push_back(
        fmt::format("{:<10} {:<10} {:<10} {:>12.4f} {:>12.4f} {:>+11.4f} {:>8} {:>6}{}", c.id, c.a, c.b, c.taped,
                    c.found, c.difference, std::isfinite(sigma) ? fmt::format("{:.4f}", sigma) : "unknown",
                    std::isfinite(c.w) ? fmt::format("{:.1f}", c.w) : "", large ? "  beyond 3.29" : ""));
  }
  if (all.empty()) throw Error("{}: no lengths stand in it", call.text("lengths"));
  const auto n = static_cast<double>(all.size());
  call.json["rmse"] = std::sqrt(squares / n), call.json["mean"] = sum / n, call.json["beyond"] = beyond;
  call.lines.push_back(fmt::format("{} length{}: RMSE {:.4f} m, mean {:+.4f} m, {} beyond 3.29 standard deviations",
                                   all.size(), all.size() == 1 ? "" : "s", std::sqrt(squares / n), sum / n, beyond));
}

void run_measure(Call& call) {
  if (call.has("lengths") && !call.paths().empty())
    throw UsageError("measure takes two points, or --lengths FILE, not both");
  if (!call.has("lengths") && call.paths().size() != 2)
    throw UsageError("measure needs two points, as in mesograph measure K01 K02");
  const survey::Survey opened(call.survey, survey::Access::look);
  stages::Tape tape(opened);
  if (call.has("mesh")) tape.lay_on(mesh::read_ply(call.text("mesh")));
  if (call.has("lengths"))
    check_lengths(call, tape);
  else
    measure_two(call, tape);
}

}  // namespace

Command measure_command() {
  return {"measure",
          "slope, ground and grid distance between two points, in the block or on a mesh",
          "[A B]",
          {{"mesh", "on this mesh of the survey (.ply, from mesh --formats ply) instead of in the block", Takes::text},
           {"lengths", "CSV with id,a,b,length,sigma (m): taped lengths, each beside what is found", Takes::text}},
          run_measure};
}

}  // namespace mesograph::app
