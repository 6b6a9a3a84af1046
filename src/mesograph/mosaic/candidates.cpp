#include <algorithm>
#include <cmath>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/candidates.hpp>

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
      out.cost[i] = static_cast<float>(options.of_angle * tangent2(std::max(0.1, upright)) +
                                       options.of_resolution * std::max(0.0, pixel / cell - 1) +
                                       options.of_rim * r2 / corner2 + options.of_hidden * (there - seen) / there +
                                       blurred);
      for (std::size_t ch = 0; ch < 3; ++ch)
        out.colour[i][ch] = static_cast<std::uint8_t>(std::clamp(sum[ch] / static_cast<float>(seen), 0.0F, 255.0F));
    }
  return out;
}

void vote_out_odd(std::vector<Candidate>& candidates, const surface::Grid& window, const VoteOptions& options) {
  for (Candidate& c : candidates) c.odd.assign(c.cost.size(), 0);
  parallel_for(static_cast<std::size_t>(window.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    std::vector<Candidate*> voters;
    std::vector<std::uint8_t> levels;
    std::vector<float> off, sorted;
    for (int col = 0; col < window.columns; ++col) {
      voters.clear();
      for (Candidate& c : candidates)
        if (std::isfinite(c.cost_at(col, row))) voters.push_back(&c);
      if (voters.size() < 3) continue;
      off.assign(voters.size(), 0);
      for (std::size_t ch = 0; ch < 3; ++ch) {
        levels.clear();
        for (const Candidate* c : voters) levels.push_back(c->colour[c->at(col, row)][ch]);
        const int usual = middle_of(levels);
        for (std::size_t i = 0; i < voters.size(); ++i)
          off[i] += static_cast<float>(std::abs(voters[i]->colour[voters[i]->at(col, row)][ch] - usual)) / 3;
      }
      sorted = off;
      const double allowed = options.even + options.spread * middle_of(sorted);
      for (std::size_t i = 0; i < voters.size(); ++i) {
        const std::size_t square = voters[i]->at(col, row);
        voters[i]->cost[square] += static_cast<float>(options.of_odd * std::max(0.0, off[i] - allowed));
        voters[i]->odd[square] = off[i] > allowed + options.far;
      }
    }
  });
}

}  // namespace mesograph::mosaic
