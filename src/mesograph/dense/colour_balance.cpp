#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/dense/colour_balance.hpp>

namespace mesograph::dense {

namespace {

double falloff_at(const std::array<double, 2>& k, double r2) { return k[0] * r2 + k[1] * r2 * r2; }

/// Points, gains and falloff in turns, each by least squares from what the others leave.
class Fit {
 public:
  Fit(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo) {
    out_.gain.resize(camera_of_photo.size());
    out_.camera = camera_of_photo;
    for (const int camera : camera_of_photo)
      out_.falloff.resize(std::max(out_.falloff.size(), static_cast<std::size_t>(camera) + 1));
    for (const ColourSample& s : samples) {
      constexpr double dark = 8, bright = 247;  // beyond, noise and clipping bend the logarithm
      const auto [low, high] = std::minmax_element(s.level.begin(), s.level.end());
      if (*low < dark || *high > bright) continue;
      used_.push_back({&s, {std::log(s.level[0]), std::log(s.level[1]), std::log(s.level[2])}, {}, true});
      points_ = std::max(points_, static_cast<std::size_t>(s.point) + 1);
    }
  }

  /// What is left of each sample less the mean of its point; `strict`: those far off take no part.
  void find_residuals(bool strict) {
    std::vector<Sum> mean(points_);
    for (const Used& u : used_)
      if (u.counts)
        for (std::size_t ch = 0; ch < 3; ++ch)
          mean[point(u)].value[ch] += u.value[ch] - explained(u, ch), mean[point(u)].n += ch == 0;
    for (Used& u : used_) {
      const Sum& m = mean[point(u)];
      u.counts = m.n > 1;
      for (std::size_t ch = 0; ch < 3 && u.counts; ++ch) {
        constexpr double far = 0.47;  // log 1.6
        u.left[ch] = u.value[ch] - m.value[ch] / m.n - explained(u, ch);
        if (strict && std::abs(u.left[ch]) > far) u.counts = false;
      }
    }
  }

  void improve_gains() {
    std::vector<Sum> sums(out_.gain.size());
    for (const Used& u : used_)
      if (u.counts)
        for (std::size_t ch = 0; ch < 3; ++ch) sums[photo(u)].value[ch] += u.left[ch], sums[photo(u)].n += ch == 0;
    for (std::size_t p = 0; p < sums.size(); ++p)
      for (std::size_t ch = 0; ch < 3 && sums[p].n > 0; ++ch) out_.gain[p][ch] += sums[p].value[ch] / sums[p].n;
  }

  /// Two unknowns a camera, all channels alike.
  void improve_falloff() {
    std::vector<Eigen::Matrix2d> N(out_.falloff.size(), 1e-9 * Eigen::Matrix2d::Identity());
    std::vector<Eigen::Vector2d> b(out_.falloff.size(), Eigen::Vector2d::Zero());
    for (const Used& u : used_) {
      if (!u.counts) continue;
      const Eigen::Vector2d a(u.sample->r2, u.sample->r2 * u.sample->r2);
      N[camera(u)] += 3 * a * a.transpose();
      b[camera(u)] += (u.left[0] + u.left[1] + u.left[2]) * a;
    }
    for (std::size_t c = 0; c < N.size(); ++c) {
      const Eigen::Vector2d k = N[c].inverse() * b[c];
      if (k.allFinite()) out_.falloff[c][0] += k[0], out_.falloff[c][1] += k[1];
    }
  }

  /// Gains about nought: no photo is the right one.
  ColourBalance result() {
    for (std::size_t ch = 0; ch < 3; ++ch) {
      double sum = 0;
      for (const auto& g : out_.gain) sum += g[ch];
      for (auto& g : out_.gain) g[ch] -= sum / static_cast<double>(out_.gain.size());
    }
    return out_;
  }

 private:
  struct Used {
    const ColourSample* sample;
    std::array<double, 3> value, left;  // logarithms
    bool counts;
  };
  struct Sum {
    std::array<double, 3> value{};
    int n = 0;
  };
  ColourBalance out_;
  std::vector<Used> used_;
  std::size_t points_ = 0;

  static std::size_t point(const Used& u) { return static_cast<std::size_t>(u.sample->point); }
  static std::size_t photo(const Used& u) { return static_cast<std::size_t>(u.sample->photo); }
  std::size_t camera(const Used& u) const { return static_cast<std::size_t>(out_.camera[photo(u)]); }
  double explained(const Used& u, std::size_t ch) const {
    return out_.gain[photo(u)][ch] + falloff_at(out_.falloff[camera(u)], u.sample->r2);
  }
};

}  // namespace

ColourBalance balance_colours(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo) {
  Fit fit(samples, camera_of_photo);
  constexpr int rounds = 30, early = 5;  // outliers are told once the fit is roughly right
  for (int round = 0; round < rounds; ++round) {
    fit.find_residuals(round >= early);
    fit.improve_gains();
    fit.find_residuals(round >= early);
    fit.improve_falloff();
  }
  return fit.result();
}

std::array<double, 3> ColourBalance::factors(int photo, double r2) const {
  const auto& g = gain[static_cast<std::size_t>(photo)];
  const double f = falloff_at(falloff[static_cast<std::size_t>(camera[static_cast<std::size_t>(photo)])], r2);
  return {std::exp(-g[0] - f), std::exp(-g[1] - f), std::exp(-g[2] - f)};
}

void ColourBalance::apply(int photo, const Pinhole& p, photo::Rgb& image) const {
  const auto& g = gain[static_cast<std::size_t>(photo)];
  const auto& k = falloff[static_cast<std::size_t>(camera[static_cast<std::size_t>(photo)])];
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      const double x = (col + 0.5 - p.x0) / p.c, y = (row + 0.5 - p.y0) / p.c;
      const double f = falloff_at(k, x * x + y * y);
      for (int ch = 0; ch < 3; ++ch) {
        std::uint8_t& v = image.at(col, row, ch);
        v = static_cast<std::uint8_t>(
            std::lround(std::clamp(v * std::exp(-g[static_cast<std::size_t>(ch)] - f), 0.0, 255.0)));
      }
    }
}

}  // namespace mesograph::dense
