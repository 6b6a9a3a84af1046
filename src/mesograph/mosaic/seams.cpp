#include <algorithm>
#include <cmath>
#include <mesograph/mosaic/max_flow.hpp>
#include <mesograph/mosaic/seams.hpp>
#include <optional>

namespace mesograph::mosaic {

namespace {

/// Squares, costs of seams between them, and who has them.
class Puzzle {
 public:
  Puzzle(const std::vector<Candidate>& candidates, const surface::Grid& coarse, const std::vector<float>& rough,
         const SeamOptions& options)
      : candidates_(candidates), grid_(coarse), rough_(rough), options_(options), label_(coarse.size(), -1) {
    for (std::size_t k = 0; k < candidates.size(); ++k) {
      const Candidate& c = candidates[k];
      for (int row = c.first_row; row < c.first_row + c.rows; ++row)
        for (int col = c.first_col; col < c.first_col + c.columns; ++col) {
          int& label = label_[grid_.at(col, row)];
          const float cost = c.cost[c.at(col, row)];
          if (std::isfinite(cost) && (label < 0 || cost < cost_of(label, col, row))) label = static_cast<int>(k);
        }
    }
  }

  /// Lets one candidate take what lowers the sum. Whether it took anything.
  bool expand(int k) {
    const Candidate& c = candidates_[static_cast<std::size_t>(k)];
    std::vector<int> node(c.cost.size(), -1);
    std::vector<float> keep, take;  // what it costs a square to stay as it is, and to go to k
    each(c, [&](int col, int row) {
      const int own = label_[grid_.at(col, row)];
      if (!std::isfinite(c.cost[c.at(col, row)]) || own == k) return;
      node[c.at(col, row)] = static_cast<int>(keep.size());
      keep.push_back(cost_of(own, col, row)), take.push_back(c.cost[c.at(col, row)]);
    });
    if (keep.empty()) return false;
    MaxFlow flow(static_cast<int>(keep.size()));
    each(c, [&](int col, int row) {
      const int i = node[c.at(col, row)];
      if (i < 0) return;
      const int own = label_[grid_.at(col, row)];
      for (const auto& [dc, dr] : {std::pair(1, 0), {0, 1}, {-1, 0}, {0, -1}}) {
        const int oc = col + dc, orow = row + dr;
        if (!grid_.inside(oc, orow)) continue;
        const std::size_t here = grid_.at(col, row), there = grid_.at(oc, orow);
        const int other = label_[there], j = c.holds(oc, orow) ? node[c.at(oc, orow)] : -1;
        if (j < 0) {  // it stays as it is
          keep[static_cast<std::size_t>(i)] += seam(own, other, here, there);
          take[static_cast<std::size_t>(i)] += seam(k, other, here, there);
        } else if (dc + dr > 0) {  // each pair once
          // A: both stay, B: the other goes, C: this one goes. With x = 1 for going the pair costs
          // A + (C - A) x_i - C x_j + (B + C - A) (1 - x_i) x_j (Kolmogorov and Zabih 2004).
          const float b = seam(own, k, here, there), d = seam(k, other, here, there),
                      a = std::min(seam(own, other, here, there), b + d);
          take[static_cast<std::size_t>(i)] += d - a, take[static_cast<std::size_t>(j)] -= d;
          flow.add_arc(i, j, b + d - a, 0);
        }
      }
    });
    for (std::size_t i = 0; i < keep.size(); ++i) flow.add_ends(static_cast<int>(i), take[i], keep[i]);
    flow.solve();
    bool any = false;
    each(c, [&](int col, int row) {
      const int i = node[c.at(col, row)];
      if (i >= 0 && flow.on_sink_side(i)) label_[grid_.at(col, row)] = k, any = true;
    });
    return any;
  }
  const std::vector<int>& labels() const { return label_; }

  /// Differences between both photos at the squares of each seam, mean of channels.
  std::vector<SeamStep> steps() const {
    std::vector<SeamStep> out;
    for (int row = 0; row < grid_.rows; ++row)
      for (int col = 0; col < grid_.columns; ++col)
        for (const auto& [c, r] : {std::pair(col + 1, row), {col, row + 1}}) {
          if (!grid_.inside(c, r)) continue;
          const int a = label_[grid_.at(col, row)], b = label_[grid_.at(c, r)];
          if (a < 0 || b < 0 || a == b) continue;
          const auto both = difference(a, b, grid_.at(col, row));
          if (both) out.push_back({col, row, *both});
        }
    return out;
  }

 private:
  const std::vector<Candidate>& candidates_;
  const surface::Grid& grid_;
  const std::vector<float>& rough_;
  const SeamOptions& options_;
  std::vector<int> label_;

  template <typename Visit>
  static void each(const Candidate& c, const Visit& visit) {
    for (int row = c.first_row; row < c.first_row + c.rows; ++row)
      for (int col = c.first_col; col < c.first_col + c.columns; ++col) visit(col, row);
  }
  float cost_of(int k, int col, int row) const { return candidates_[static_cast<std::size_t>(k)].cost_at(col, row); }
  using Colour = std::array<std::uint8_t, 3>;
  /// A photo's colour of a square; none where it does not show it.
  const Colour* colour(int k, std::size_t square) const {
    const int col = grid_.column_of(square), row = grid_.row_of(square);
    const Candidate& of = candidates_[static_cast<std::size_t>(k)];
    return std::isfinite(of.cost_at(col, row)) ? &of.colour[of.at(col, row)] : nullptr;
  }
  /// How far two colours are apart, mean over channels; nothing where one is not shown.
  static std::optional<float> apart(const Colour* x, const Colour* y) {
    if (!x || !y) return std::nullopt;
    float sum = 0;
    for (std::size_t ch = 0; ch < 3; ++ch) sum += static_cast<float>(std::abs((*x)[ch] - (*y)[ch]));
    return sum / 3;
  }
  std::optional<float> difference(int a, int b, std::size_t square) const {
    return apart(colour(a, square), colour(b, square));
  }
  /// What a seam between two squares costs that belong to a and b.
  float seam(int a, int b, std::size_t here, std::size_t there) const {
    if (a == b || a < 0 || b < 0) return 0;
    constexpr float unseen = 60;  // one of both does not show what lies there: nothing says that they agree
    const Colour *a_here = colour(a, here), *a_there = colour(a, there), *b_here = colour(b, here),
                 *b_there = colour(b, there);
    const float texture = apart(a_here, a_there).value_or(0) + apart(b_here, b_there).value_or(0);
    return static_cast<float>(options_.of_length) + std::max(rough_[here], rough_[there]) +
           0.5F * (apart(a_here, b_here).value_or(unseen) + apart(a_there, b_there).value_or(unseen) +
                   static_cast<float>(options_.of_texture) * texture);
  }
};

}  // namespace

Labels choose_seams(const std::vector<Candidate>& candidates, const surface::Grid& coarse,
                    const std::vector<float>& rough, const SeamOptions& options, Progress& progress) {
  Puzzle puzzle(candidates, coarse, rough, options);
  progress.start("choosing seams", static_cast<std::size_t>(options.rounds) * candidates.size());
  for (int round = 0; round < options.rounds; ++round)
    for (std::size_t k = 0; k < candidates.size(); ++k) {
      progress.check();
      if (!candidates[k].cost.empty()) puzzle.expand(static_cast<int>(k));
      progress.advance();
    }
  return {puzzle.labels(), puzzle.steps()};
}

}  // namespace mesograph::mosaic
