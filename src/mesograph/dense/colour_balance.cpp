#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>
#include <memory>
#include <mesograph/dense/colour_balance.hpp>

namespace mesograph::dense {

namespace {

double falloff_at(const std::array<double, 2>& k, double r2) { return k[0] * r2 + k[1] * r2 * r2; }

/// Points, gains and falloff in turns, each by least squares from what the others leave.
class Fit {
 public:
  Fit(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo) {
    out_.gain.resize(camera_of_photo.size());
    out_.drift.assign(camera_of_photo.size(),
                      {Eigen::Vector2d::Zero(), Eigen::Vector2d::Zero(), Eigen::Vector2d::Zero()});
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
    std::stable_sort(used_.begin(), used_.end(), [](const Used& a, const Used& b) { return point(a) < point(b); });
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

  /// All gains at once, points eliminated: by turns with the points a gain would follow its neighbours' a step a round,
  /// and a long strip would stay bent.
  void improve_gains() {
    const auto n = static_cast<Eigen::Index>(out_.gain.size());
    std::vector<Eigen::Triplet<double>> entries;
    Eigen::MatrixX3d b = Eigen::MatrixX3d::Zero(n, 3);
    for (Eigen::Index p = 0; p < n; ++p) entries.emplace_back(p, p, 1e-6);  // all of them together are free
    for_each_point([&](const Used* first, const Used* last) {
      const auto count = static_cast<double>(std::count_if(first, last, [](const Used& u) { return u.counts; }));
      for (const Used* u = first; u != last; ++u) {
        if (!u->counts) continue;
        const auto p = static_cast<Eigen::Index>(photo(*u));
        entries.emplace_back(p, p, 1.0);
        for (const Used* v = first; v != last; ++v)
          if (v->counts) entries.emplace_back(p, static_cast<Eigen::Index>(photo(*v)), -1 / count);
        for (std::size_t ch = 0; ch < 3; ++ch) b(p, static_cast<Eigen::Index>(ch)) += u->left[ch];
      }
    });
    Eigen::SparseMatrix<double> N(n, n);
    N.setFromTriplets(entries.begin(), entries.end());
    const Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> solver(N);
    const Eigen::MatrixX3d more = solver.solve(b);
    if (!more.allFinite()) return;
    for (Eigen::Index p = 0; p < n; ++p)
      for (std::size_t ch = 0; ch < 3; ++ch)
        out_.gain[static_cast<std::size_t>(p)][ch] += more(p, static_cast<Eigen::Index>(ch));
  }

  /// Two unknowns a camera, all channels alike, points eliminated.
  void improve_falloff() {
    const auto n = static_cast<Eigen::Index>(2 * out_.falloff.size());
    Eigen::MatrixXd N = 1e-9 * Eigen::MatrixXd::Identity(n, n);
    Eigen::VectorXd b = Eigen::VectorXd::Zero(n), mean(n);
    const auto terms = [](const Used& u) {
      const double r2 = u.sample->u.squaredNorm();
      return Eigen::Vector2d(r2, r2 * r2);
    };
    const auto first_of = [this](const Used& u) { return static_cast<Eigen::Index>(2 * camera(u)); };
    for_each_point([&](const Used* first, const Used* last) {
      mean.setZero();
      double count = 0;
      for (const Used* u = first; u != last; ++u)
        if (u->counts) mean.segment<2>(first_of(*u)) += terms(*u), count += 1;
      if (count == 0) return;
      for (const Used* u = first; u != last; ++u) {
        if (!u->counts) continue;
        Eigen::VectorXd a = -mean / count;
        a.segment<2>(first_of(*u)) += terms(*u);
        N += 3 * a * a.transpose(), b += (u->left[0] + u->left[1] + u->left[2]) * a;
      }
    });
    const Eigen::VectorXd k = N.ldlt().solve(b);
    if (!k.allFinite()) return;
    for (std::size_t c = 0; c < out_.falloff.size(); ++c)
      for (std::size_t i = 0; i < 2; ++i) out_.falloff[c][i] += k[static_cast<Eigen::Index>(2 * c + i)];
  }

  /// Two unknowns a photo and channel, shrunk by what they scatter beyond their own noise: where no photo drifts, none
  /// is given a drift. In the mean of a camera's photos they are nought: a site that is darker on one side must not
  /// become a drift of all.
  void improve_drifts() {
    std::vector<Normal> normals(out_.drift.size());
    double square = 0, count = 0;
    for (const Used& u : used_) {
      if (!u.counts) continue;
      Normal& of = normals[photo(u)];
      of.N += u.sample->u * u.sample->u.transpose();
      for (std::size_t ch = 0; ch < 3; ++ch) {
        of.b[ch] += (u.left[ch] + out_.drift[photo(u)][ch].dot(u.sample->u)) * u.sample->u;
        square += u.left[ch] * u.left[ch], count += 1;
      }
    }
    if (!(count > 0)) return;
    const double noise = square / count;
    // Told once, from what is left where no photo drifts: later, drifts and gains bend a strip together, which costs
    // levels next to nothing and looks like drifts.
    if (!scatter_) scatter_ = std::make_unique<std::array<double, 3>>(scatter_of(normals, noise));
    for (std::size_t p = 0; p < normals.size(); ++p)
      for (std::size_t ch = 0; ch < 3; ++ch) {
        const double expected = (*scatter_)[ch];
        out_.drift[p][ch].setZero();
        if (!(expected > 0)) continue;
        const Eigen::Matrix2d N = normals[p].N + noise / expected * Eigen::Matrix2d::Identity();
        out_.drift[p][ch] = N.inverse() * normals[p].b[ch];
      }
    centre_drifts();
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
  struct Normal {
    Eigen::Matrix2d N = Eigen::Matrix2d::Zero();
    std::array<Eigen::Vector2d, 3> b{Eigen::Vector2d::Zero(), Eigen::Vector2d::Zero(), Eigen::Vector2d::Zero()};
  };
  ColourBalance out_;
  std::vector<Used> used_;
  std::size_t points_ = 0;
  std::unique_ptr<std::array<double, 3>> scatter_;  ///< see scatter_of; none: not told yet

  /// Samples of one point after the other's.
  template <typename Visit>
  void for_each_point(const Visit& visit) const {
    const Used *at = used_.data(), *end = at + used_.size();
    while (at != end) {
      const Used* next = std::find_if(at, end, [&](const Used& u) { return point(u) != point(*at); });
      visit(at, next), at = next;
    }
  }
  /// Variance of drifts by channel, an axis, beyond what the noise of levels makes of none, and beyond what slopes
  /// in another sortie's sun make of photos that do not drift: 2 % a tangent on the made-up site, flown twice.
  static std::array<double, 3> scatter_of(const std::vector<Normal>& normals, double noise) {
    std::array<double, 3> sum{};
    int n = 0;
    for (const Normal& of : normals) {
      constexpr double told = 1;  // of the sum of squared tangents: fewer say nothing
      if (!(of.N.determinant() > told * told)) continue;
      const Eigen::Matrix2d inverse = of.N.inverse();
      for (std::size_t ch = 0; ch < 3; ++ch) sum[ch] += (inverse * of.b[ch]).squaredNorm() - noise * inverse.trace();
      n += 2;
    }
    constexpr double undrifted = 0.022;
    for (double& v : sum) v = n > 0 ? std::max(0.0, v / n - undrifted * undrifted) : 0.0;
    return sum;
  }
  void centre_drifts() {
    for (std::size_t camera = 0; camera < out_.falloff.size(); ++camera)
      for (std::size_t ch = 0; ch < 3; ++ch) {
        Eigen::Vector2d sum = Eigen::Vector2d::Zero();
        double n = 0;
        for (std::size_t p = 0; p < out_.drift.size(); ++p)
          if (out_.camera[p] == static_cast<int>(camera)) sum += out_.drift[p][ch], n += 1;
        for (std::size_t p = 0; p < out_.drift.size(); ++p)
          if (out_.camera[p] == static_cast<int>(camera)) out_.drift[p][ch] -= sum / n;
      }
  }

  static std::size_t point(const Used& u) { return static_cast<std::size_t>(u.sample->point); }
  static std::size_t photo(const Used& u) { return static_cast<std::size_t>(u.sample->photo); }
  std::size_t camera(const Used& u) const { return static_cast<std::size_t>(out_.camera[photo(u)]); }
  double explained(const Used& u, std::size_t ch) const {
    return out_.gain[photo(u)][ch] + out_.drift[photo(u)][ch].dot(u.sample->u) +
           falloff_at(out_.falloff[camera(u)], u.sample->u.squaredNorm());
  }
};

}  // namespace

ColourBalance balance_colours(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo) {
  Fit fit(samples, camera_of_photo);
  constexpr int rounds = 14, early = 3, late = 7;  // outliers are told once the fit is roughly right, drifts at last
  for (int round = 0; round < rounds; ++round) {
    fit.find_residuals(round >= early);
    fit.improve_gains();
    fit.find_residuals(round >= early);
    fit.improve_falloff();
    if (round < late) continue;
    fit.find_residuals(true);
    fit.improve_drifts();
  }
  return fit.result();
}

std::array<float, 3> ColourBalance::factors(int photo, const Eigen::Vector2d& u) const {
  const auto p = static_cast<std::size_t>(photo);
  const double f = falloff_at(falloff[static_cast<std::size_t>(camera[p])], u.squaredNorm());
  std::array<float, 3> out{};
  for (std::size_t ch = 0; ch < 3; ++ch) out[ch] = std::exp(static_cast<float>(-gain[p][ch] - drift[p][ch].dot(u) - f));
  return out;
}

void ColourBalance::apply(int photo, const Pinhole& p, photo::Rgb& image) const {
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      const std::array<float, 3> factor = factors(photo, {(col + 0.5 - p.x0) / p.c, (row + 0.5 - p.y0) / p.c});
      for (int ch = 0; ch < 3; ++ch) {
        std::uint8_t& v = image.at(col, row, ch);
        v = static_cast<std::uint8_t>(
            std::lround(std::clamp(static_cast<float>(v) * factor[static_cast<std::size_t>(ch)], 0.0F, 255.0F)));
      }
    }
}

void ColourBalance::refer_to(int photo) {
  const std::array<double, 3> of = gain[static_cast<std::size_t>(photo)];
  for (auto& g : gain)
    for (std::size_t ch = 0; ch < 3; ++ch) g[ch] -= of[ch];
}

}  // namespace mesograph::dense
