#include <fmt/format.h>

#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/report/judgement.hpp>

namespace mesograph::report {

namespace {

constexpr double chance = 2.58;  // sigmas: 99 of 100 right ones stay below

/// "16 mm", "0.32 m".
std::string length(double metres) {
  return std::abs(metres) < 0.1 ? fmt::format("{:.0f} mm", 1000 * std::abs(metres))
                                : fmt::format("{:.2f} m", std::abs(metres));
}

std::string bias_words(const BiasOfChecks& b, const std::optional<Accuracy>& control) {
  static const char* const ways[3][2] = {{"west", "east"}, {"south", "north"}, {"low", "high"}};
  std::vector<std::string> off, predicted;
  bool explained = true;
  for (int a = 0; a < 3; ++a) {
    if (!(std::abs(b.mean[a]) > chance * b.by_scatter[a])) continue;
    off.push_back(fmt::format("{} {}", length(b.mean[a]), ways[a][b.mean[a] > 0]));
    predicted.push_back(length(b.predicted[a]));
    explained = explained && std::abs(b.mean[a]) < chance * b.predicted[a];
  }
  if (off.empty()) return {};
  const std::string by = control ? fmt::format("the errors of {} control points and of the block", control->count)
                                 : std::string("what holds the block");
  const std::string cause = fmt::format("{} {} (predicted for such a mean: {}, 1 sigma){}", by,
                                        explained ? "explain it" : "do not explain it", fmt::join(predicted, " and "),
                                        explained ? "" : ": look for an error that control or checks share");
  return fmt::format("at the {} checks the block lies {} on average, more than their scatter allows; {}", b.of,
                     fmt::join(off, ", "), cause);
}

std::string checks_words(const NormalisedChecks& n) {
  const double ratio = std::sqrt(n.mean);
  if (n.mean >= n.low && n.mean <= n.high)
    return fmt::format("the checks' errors are as large as predicted ({:.2f} times, {:.2f} to {:.2f} is chance)", ratio,
                       std::sqrt(n.low), std::sqrt(n.high));
  return fmt::format("the checks' errors are {:.1f} times what is predicted ({:.2f} to {:.2f} is chance): {}", ratio,
                     std::sqrt(n.low), std::sqrt(n.high),
                     n.mean > n.high ? "predicted sigmas are too small, or the checks have errors of their own"
                                     : "predicted sigmas are too large");
}

/// "ties 0.08 px (estimated, 0.07 to 0.13 by photo; 3.1 independent rays of 6.1 a point)".
std::string ties_words(const TieResult& t) {
  if (!t.estimated) return fmt::format("ties {:.2f} px (as given; {:.1f} rays a point)", t.sigma, t.rays);
  return fmt::format("ties {:.2f} px (estimated, {:.2f} to {:.2f} by photo; {:.1f} independent rays of {:.1f} a point)",
                     t.sigma, t.least, t.most, t.independent, t.rays);
}

std::string sigma0_words(const AdjustmentSummary& s) {
  if (!s.sigma0_interval || !std::isfinite(s.sigma0)) return {};
  const auto [low, high] = *s.sigma0_interval;
  // Within two hundredths of one nobody's sigmas are known.
  if ((s.sigma0 >= low && s.sigma0 <= high) || std::abs(s.sigma0 - 1) < 0.02) return {};
  return fmt::format(
      "sigma0 {:.3f} lies outside {:.3f} to {:.3f}: the observations are {} than the sigmas that they were given, and "
      "predicted sigmas are {} by that; weights = \"estimate\" in [adjust] finds them group by group",
      s.sigma0, low, high, s.sigma0 < 1 ? "better" : "worse", s.sigma0 < 1 ? "too large" : "too small");
}

}  // namespace

std::vector<std::string> judgement_of(const AdjustmentSummary& s) {
  std::vector<std::string> out;
  if (!s.converged) return out;
  if (s.ties) out.push_back(ties_words(*s.ties));
  if (s.assumed)
    out.push_back(fmt::format(
        "no sigma is stated of {} surveyed points: {:g} m in plan and {:g} m in height are assumed, and what is said "
        "of accuracy rests on that (sigma_h and sigma_v in the control file, or control --sigma)",
        s.assumed->points, s.assumed->plan, s.assumed->height));
  if (s.bias)
    if (std::string words = bias_words(*s.bias, s.control); !words.empty()) out.push_back(std::move(words));
  if (s.check_normalised) out.push_back(checks_words(*s.check_normalised));
  if (std::string words = sigma0_words(s); !words.empty()) out.push_back(std::move(words));
  return out;
}

std::string words_of_datum(const AdjustmentSummary& summary, const std::vector<PointResult>& points) {
  std::vector<Eigen::Vector2d> plan, all;
  int heights = 0;
  for (const PointResult& p : points) {
    if (p.role == adjust::Role::off || !p.local.head<2>().allFinite()) continue;
    all.push_back(p.local.head<2>());
    if (p.role != adjust::Role::control || p.idle()) continue;
    if (std::isfinite(p.sigma.x()) && std::isfinite(p.sigma.y())) plan.push_back(p.local.head<2>());
    heights += std::isfinite(p.sigma.z());
  }
  // The width across the line that fits the points best, against how far all surveyed points reach: a scale that needs
  // no metre.
  const auto width = [](const std::vector<Eigen::Vector2d>& of, int which) {
    Eigen::Matrix2Xd m(2, static_cast<Eigen::Index>(of.size()));
    for (std::size_t i = 0; i < of.size(); ++i) m.col(static_cast<Eigen::Index>(i)) = of[i];
    if (of.size() < 2) return 0.0;
    const Eigen::Matrix2Xd centred = m.colwise() - m.rowwise().mean();
    return singular_values(centred)[which] / std::sqrt(static_cast<double>(of.size()));
  };
  const bool positions = std::any_of(summary.sorties.begin(), summary.sorties.end(),
                                     [](const SortieResult& s) { return s.positions > 0; });
  const bool spread = plan.size() >= 3 && width(plan, 1) > 0.05 * width(all, 0);
  if (!positions || (spread && heights >= 3)) return {};
  return fmt::format(
      "THE RESULT RESTS ON THE PHOTOS' POSITIONS: {} in plan and {} in height, and three well apart are needed of each "
      "to hold the block; sight more control (mesograph sight says what is missing) or give it",
      plan.empty()       ? std::string("no control point takes part")
      : plan.size() >= 3 ? fmt::format("{} control points take part, nearly on one line,", plan.size())
                         : fmt::format("{} control point{} part", plan.size(), plan.size() == 1 ? " takes" : "s take"),
      heights);
}

}  // namespace mesograph::report
