#include <algorithm>
#include <cmath>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/candidates.hpp>
#include <mesograph/mosaic/planes.hpp>

namespace mesograph::mosaic {

namespace {

double tangent2(double upright) { return 1 / (upright * upright) - 1; }

/// A value of some that half of them do not exceed; they are put in another order.
template <typename T>
T middle_of(std::vector<T>& values) {
  const auto half = values.begin() + static_cast<std::ptrdiff_t>((values.size() - 1) / 2);
  std::nth_element(values.begin(), half, values.end());
  return *half;
}

}  // namespace

Candidate candidate_of(const PhotoSight& sight, const Eigen::AlignedBox2d& box, const Offer& offer,
                       const Ground& ground, const surface::Grid& window, double cell, const Toning& toning,
                       const CandidateOptions& options) {
  Candidate out;
  out.station = sight.station();
  out.first_col = std::max(0, window.column(box.min().x()));
  out.first_row = std::max(0, window.row(box.max().y()));
  out.columns = std::max(0, std::min(window.columns - 1, window.column(box.max().x())) - out.first_col + 1);
  out.rows = std::max(0, std::min(window.rows - 1, window.row(box.min().y())) - out.first_row + 1);
  const std::size_t n = static_cast<std::size_t>(out.columns) * out.rows;
  out.cost.assign(n, INFINITY), out.colour.assign(n, {});
  const photo::Rgb& reduced = *offer.reduced;
  const double scale_x = static_cast<double>(reduced.width) / offer.width,
               scale_y = static_cast<double>(reduced.height) / offer.height,
               corner2 = std::pow(0.5 * std::hypot(offer.width, offer.height) / offer.c, 2),
               blurred = options.of_blur * std::max(0.0, 1 / std::max(0.05, offer.sharpness) - 1);
  for (int row = out.first_row; row < out.first_row + out.rows; ++row)
    for (int col = out.first_col; col < out.first_col + out.columns; ++col) {
      const Eigen::Vector2d middle = window.middle(col, row);
      int seen = 0, there = 0;
      double upright = 0, range = 0, r2 = 0;
      std::array<float, 3> sum{};
      for (const double dx : {-0.25, 0.25})
        for (const double dy : {-0.25, 0.25}) {
          const Eigen::Vector2d at = middle + window.cell * Eigen::Vector2d(dx, dy);
          const double z = ground.height(at);
          if (!std::isfinite(z)) continue;
          ++there;
          const Eigen::Vector3d X = ground.local(at, z);
          const auto shown = sight.see(X);
          if (!shown) continue;
          ++seen;
          upright += sight.upright(X), range += (X - sight.centre()).norm(), r2 += shown->u.squaredNorm();
          const int px = std::clamp(static_cast<int>(shown->x.x() * scale_x), 0, reduced.width - 1),
                    py = std::clamp(static_cast<int>(shown->x.y() * scale_y), 0, reduced.height - 1);
          const std::array<float, 3> factor = toning(out.station, shown->u);
          for (std::size_t ch = 0; ch < 3; ++ch)
            sum[ch] += factor[ch] * static_cast<float>(reduced.at(px, py, static_cast<int>(ch)));
        }
      if (seen == 0) continue;
      const std::size_t i = out.at(col, row);
      upright /= seen, range /= seen, r2 /= seen;
      const double pixel = range / offer.c / std::max(0.1, upright);
      out.cost[i] =
          static_cast<float>(options.of_angle * tangent2(std::max(0.1, upright)) +
                             options.of_resolution * std::max(0.0, pixel / cell - 1) + options.of_rim * r2 / corner2 +
                             options.of_hidden * (there - seen) / there + blurred);
      for (std::size_t ch = 0; ch < 3; ++ch)
        out.colour[i][ch] = static_cast<std::uint8_t>(std::clamp(sum[ch] / static_cast<float>(seen), 0.0F, 255.0F));
    }
  return out;
}

namespace {

/// What half of the photos do not exceed in each square, channel by channel; NaN: fewer than three show it.
Planes<4> usual_colours(const std::vector<Candidate>& candidates, const surface::Grid& window) {
  Planes<4> out(window.columns, window.rows);
  parallel_for(static_cast<std::size_t>(window.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    std::array<std::vector<std::uint8_t>, 3> levels;
    for (int col = 0; col < window.columns; ++col) {
      for (auto& of : levels) of.clear();
      for (const Candidate& c : candidates)
        if (std::isfinite(c.cost_at(col, row)))
          for (std::size_t ch = 0; ch < 3; ++ch) levels[ch].push_back(c.colour[c.at(col, row)][ch]);
      for (std::size_t ch = 0; ch < 3; ++ch)
        out.at(col, row)[static_cast<Eigen::Index>(ch)] = levels[ch].size() < 3 ? NAN : middle_of(levels[ch]);
    }
  });
  return out;
}

/// How far a photo's squares are from the usual colours, beside what it is off by all around, where the sun of its hour
/// lights a slope more or less; mean of channels.
std::vector<float> oddity(const Candidate& c, const Planes<4>& usual) {
  Planes<4> off(c.columns, c.rows);
  for (int row = 0; row < c.rows; ++row)
    for (int col = 0; col < c.columns; ++col) {
      const std::size_t i = c.at(c.first_col + col, c.first_row + row);
      const Eigen::Array4f level(c.colour[i][0], c.colour[i][1], c.colour[i][2], 1);
      const Eigen::Array4f d = level - usual.at(c.first_col + col, c.first_row + row);
      if (std::isfinite(c.cost[i]) && d.allFinite()) off.at(col, row) = d;
    }
  Planes<4> around = off;
  constexpr int reach = 3;  // and thrice as far
  blur(around, reach);
  std::vector<float> out(c.cost.size(), 0);
  for (int row = 0; row < c.rows; ++row)
    for (int col = 0; col < c.columns; ++col) {
      const auto here = off.at(col, row), mean = around.at(col, row);
      if (here[3] == 0) continue;
      const Eigen::Array4f odd = (here - mean / mean[3]).abs();
      out[c.at(c.first_col + col, c.first_row + row)] = (odd[0] + odd[1] + odd[2]) / 3;
    }
  return out;
}

}  // namespace

void vote_out_odd(std::vector<Candidate>& candidates, const surface::Grid& window, const VoteOptions& options) {
  const Planes<4> usual = usual_colours(candidates, window);
  std::vector<std::vector<float>> off(candidates.size());
  parallel_for(candidates.size(), [&](std::size_t k) {
    candidates[k].odd.assign(candidates[k].cost.size(), 0);
    off[k] = oddity(candidates[k], usual);
  });
  parallel_for(static_cast<std::size_t>(window.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    std::vector<std::pair<std::size_t, std::size_t>> voters;  // candidate, and its own number of the square
    std::vector<float> sorted;
    for (int col = 0; col < window.columns; ++col) {
      if (!std::isfinite(usual.at(col, row)[0])) continue;
      voters.clear(), sorted.clear();
      for (std::size_t k = 0; k < candidates.size(); ++k)
        if (std::isfinite(candidates[k].cost_at(col, row))) {
          voters.emplace_back(k, candidates[k].at(col, row));
          sorted.push_back(off[k][voters.back().second]);
        }
      const double allowed = options.even + options.spread * middle_of(sorted);
      for (const auto& [k, square] : voters) {
        candidates[k].cost[square] += static_cast<float>(options.of_odd * std::max(0.0, off[k][square] - allowed));
        candidates[k].odd[square] = off[k][square] > allowed + options.far;
      }
    }
  });
}

}  // namespace mesograph::mosaic
