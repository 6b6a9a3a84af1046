#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/sight/target_drawing.hpp>
#include <mesograph/sight/target_start.hpp>

namespace mesograph::sight {

namespace {

/// Contrast of a drawing over the range of the grey values that were seen: blur of two pixels hides a third of what ten
/// pixels hold.
constexpr double most_extrapolated = 2.0;

struct Pixel {
  Eigen::Vector2d x;
  int col, row;
  double value, weight = 1;
};

/// Every pixel of the window, every second one each way of a large one: neighbours say the same there.
int step_of(const TargetShape& start) { return start.reach() > 24 ? 2 : 1; }

std::vector<Pixel> window_of(const photo::Grey& image, const TargetShape& start) {
  std::vector<Pixel> out;
  const double reach = start.reach();
  const int step = step_of(start);
  const int left = std::max(0, static_cast<int>(std::floor(start.x.x() - reach)));
  const int right = std::min(image.width - 1, static_cast<int>(std::ceil(start.x.x() + reach)));
  const int top = std::max(0, static_cast<int>(std::floor(start.x.y() - reach)));
  const int bottom = std::min(image.height - 1, static_cast<int>(std::ceil(start.x.y() + reach)));
  for (int row = top; row <= bottom; row += step)
    for (int col = left; col <= right; col += step) {
      const Eigen::Vector2d x(col + 0.5, row + 0.5);
      if (start.inside(x)) out.push_back({x, col / step, row / step, image.at(col, row)});
    }
  return out;
}

/// What is known of a fit's parameters beforehand: their values, and 1 / sigma^2 of each; 0 where nothing is.
struct Prior {
  Eigen::VectorXd mean, precision;
  double cost(const Eigen::VectorXd& p) const { return precision.dot((p - mean).cwiseAbs2()); }
};

/// Of a shape that is known from other photos: what the ground's slope, which is known to some degrees, and paint on
/// rough ground make of it.
Prior prior_of(TargetKind kind, const TargetShape& start, bool known) {
  const Eigen::VectorXd first = parameters_of(kind, start);
  Prior out{first, Eigen::VectorXd::Zero(first.size())};
  if (!known) return out;
  constexpr double sigma_angle = 0.06, sigma_width = 0.15, sigma_circle = 0.08;
  const auto hold = [&](Eigen::Index from, Eigen::Index n, double sigma) {
    out.precision.segment(from, n).setConstant(1 / (sigma * sigma));
  };
  if (has_lines(kind)) {
    hold(shape, 2, sigma_angle);
    if (kind != TargetKind::checker) hold(shape + 2, 2, sigma_width);
    return out;
  }
  const double per_pixel = std::sqrt(first[shape] * first[shape + 2] - first[shape + 1] * first[shape + 1]);
  hold(shape, 3, sigma_circle * per_pixel);
  if (first.size() > shape + 3) hold(shape + 3, first.size() - shape - 3, sigma_circle);
  return out;
}

/// Values of a drawing at all pixels.
Eigen::VectorXd drawn(const std::vector<Pixel>& pixels, TargetKind kind, const Eigen::VectorXd& p,
                      const Eigen::Vector2d& g) {
  const auto n = static_cast<Eigen::Index>(pixels.size());
  Eigen::VectorXd x(n), y(n);
  for (Eigen::Index i = 0; i < n; ++i) x[i] = pixels[i].x.x(), y[i] = pixels[i].x.y();
  return drawn(kind, p, g, x, y);
}

/// The fit as it stands: the grey values are a + b T(x; p), and where T is 0 the ground may lean.
struct State {
  Eigen::VectorXd p;
  double a = 0, b = 0;
  Eigen::Vector2d lean = Eigen::Vector2d::Zero();  ///< of the ground, grey levels a pixel; none for checkers
  Eigen::VectorXd T, residual;                     ///< one a pixel
  double cost = 1e300;
};

/// Levels of ground and paint by weighted least squares, and what remains. `lean`: whether ground is there that may be
/// lighter on one side, as where a track passes or a shadow begins.
State evaluate(const std::vector<Pixel>& pixels, TargetKind kind, const Eigen::VectorXd& p, const Eigen::Vector2d& g,
               bool lean) {
  State s;
  s.p = p;
  const auto n = static_cast<Eigen::Index>(pixels.size());
  s.T = drawn(pixels, kind, p, g);
  s.residual.resize(n);
  const Eigen::Vector2d centre = p.head<2>();
  Eigen::Matrix4d N = Eigen::Matrix4d::Zero();
  Eigen::Vector4d right = Eigen::Vector4d::Zero();
  for (Eigen::Index i = 0; i < n; ++i) {
    const Pixel& pixel = pixels[i];
    const Eigen::Vector2d d = lean ? Eigen::Vector2d((1 - s.T[i]) * (pixel.x - centre)) : Eigen::Vector2d::Zero();
    const Eigen::Vector4d row(1, s.T[i], d.x(), d.y()), weighted = pixel.weight * row;
    N.noalias() += weighted * row.transpose();
    right += pixel.value * weighted;
  }
  if (!(N(0, 0) * N(1, 1) - N(0, 1) * N(0, 1) > 1e-9 * N(0, 0) * N(0, 0))) return s;
  // Ground that is hardly seen leans little: a tenth of a pixel's weight.
  N(2, 2) += 0.1, N(3, 3) += 0.1;
  const Eigen::Vector4d levels = N.ldlt().solve(right);
  s.a = levels[0], s.b = levels[1], s.lean = levels.tail<2>();
  s.cost = 0;
  for (Eigen::Index i = 0; i < n; ++i) {
    const double ground = lean ? (1 - s.T[i]) * s.lean.dot(pixels[i].x - centre) : 0;
    s.residual[i] = pixels[i].value - s.a - s.b * s.T[i] - ground;
    s.cost += pixels[i].weight * s.residual[i] * s.residual[i];
  }
  return s;
}

/// Derivatives of the grey values by p, then by their levels and the ground's lean. By p by differences over steps of
/// 1e-4: central ones are good to 1e-6, far below the noise; those to one side cost half, and lead to the same place.
Eigen::MatrixXd jacobian(const std::vector<Pixel>& pixels, TargetKind kind, const State& s, const Eigen::Vector2d& g,
                         bool lean, bool central) {
  const Eigen::Index n = s.T.size(), k = s.p.size();
  Eigen::MatrixXd J(n, k + (lean ? 4 : 2));
  for (Eigen::Index j = 0; j < k; ++j) {
    const double step = 1e-4 * (j < 2 ? 1.0 : std::max(0.05, std::abs(s.p[j])));
    Eigen::VectorXd moved = s.p;
    moved[j] = s.p[j] + step;
    const Eigen::VectorXd up = drawn(pixels, kind, moved, g);
    moved[j] = s.p[j] - step;
    if (central)
      J.col(j) = (up - drawn(pixels, kind, moved, g)) / (2 * step);
    else
      J.col(j) = (up - s.T) / step;
  }
  Eigen::ArrayXd contrast(n);  // of paint against the ground right there
  for (Eigen::Index i = 0; i < n; ++i) {
    const Eigen::Vector2d d = pixels[i].x - s.p.head<2>();
    contrast[i] = s.b - s.lean.dot(d);
    if (lean) J(i, k + 2) = (1 - s.T[i]) * d.x(), J(i, k + 3) = (1 - s.T[i]) * d.y();
  }
  J.leftCols(k).array().colwise() *= contrast;
  J.col(k).setOnes();
  J.col(k + 1) = s.T;
  return J;
}

/// Weights after Huber (1964) at 1.5 robust standard deviations, and never below what one grey level of rounding makes.
void weigh(std::vector<Pixel>& pixels, const Eigen::VectorXd& residual) {
  std::vector<double> sizes(residual.size());
  for (Eigen::Index i = 0; i < residual.size(); ++i) sizes[i] = std::abs(residual[i]);
  const double scale = std::max(0.5, 1.4826 * median(sizes));
  for (std::size_t i = 0; i < pixels.size(); ++i)
    pixels[i].weight = std::min(1.0, 1.5 * scale / std::max(1e-9, std::abs(residual[i])));
}

Eigen::VectorXd weights_of(const std::vector<Pixel>& pixels) {
  Eigen::VectorXd out(static_cast<Eigen::Index>(pixels.size()));
  for (Eigen::Index i = 0; i < out.size(); ++i) out[i] = pixels[i].weight;
  return out;
}

/// Share of the grey variance in the window that a fit explains.
double explained(const std::vector<Pixel>& pixels, const State& s) {
  double mean = 0, variance = 0;
  for (const Pixel& pixel : pixels) mean += pixel.value / static_cast<double>(pixels.size());
  for (const Pixel& pixel : pixels) variance += (pixel.value - mean) * (pixel.value - mean);
  return variance > 0 ? 1 - s.residual.squaredNorm() / variance : 0;
}

/// Variance of the residuals by their weights, and not below what rounding makes.
double noise_variance(const State& s) { return std::max(0.5, s.cost / static_cast<double>(s.T.size())); }

/// Levenberg-Marquardt with the weights renewed in each round; nothing where it wanders off, or where it explains too
/// little at the start and after a few rounds: nine of ten places are texture, and cost most. Ends early where it
/// explains `enough`.
std::optional<State> minimise(std::vector<Pixel>& pixels, TargetKind kind, const Prior& prior, const TargetShape& start,
                              const Eigen::Vector2d& g, bool lean, double least, double enough) {
  State s = evaluate(pixels, kind, prior.mean, g, lean);
  if (!(s.cost < 1e299) || explained(pixels, s) < 0.7 * least) return std::nullopt;
  double lambda = 1e-3;
  for (int round = 0; round < 25; ++round) {
    const double share = enough < 1 || round == 3 ? explained(pixels, s) : 1;
    if (round == 3 && share < std::min(0.8, least - 0.1)) return std::nullopt;
    if (enough < 1 && (share >= enough || round == 6)) return s;
    if (round > 2) weigh(pixels, s.residual), s = evaluate(pixels, kind, s.p, g, lean);
    const Eigen::MatrixXd J = jacobian(pixels, kind, s, g, lean, false);
    const Eigen::MatrixXd WJ = weights_of(pixels).asDiagonal() * J;
    const double variance = noise_variance(s);
    Eigen::MatrixXd N = J.transpose() * WJ;
    Eigen::VectorXd right = WJ.transpose() * s.residual;
    N.diagonal().head(s.p.size()) += variance * prior.precision;
    right.head(s.p.size()) += variance * prior.precision.cwiseProduct(prior.mean - s.p);
    bool better = false;
    double moved = 0;
    for (int attempt = 0; attempt < 6 && !better; ++attempt, lambda *= better ? 0.2 : 8) {
      Eigen::MatrixXd damped = N;
      damped.diagonal() *= 1 + lambda;
      const Eigen::VectorXd step = solve_symmetric(damped, right);
      if (!step.allFinite()) return std::nullopt;
      Eigen::VectorXd p = s.p + step.head(s.p.size());
      p[log_blur] = std::clamp(p[log_blur], std::log(0.25), std::log(3.5));
      State next = evaluate(pixels, kind, p, g, lean);
      better = next.cost + variance * prior.cost(next.p) <= s.cost + variance * prior.cost(s.p);
      if (better) moved = (next.p - s.p).head<2>().norm(), s = std::move(next);
    }
    if ((s.p.head<2>() - start.x).norm() > 0.5 * start.reach()) return std::nullopt;
    if (round > 5 && (!better || moved < 1e-3)) break;
  }
  return s;
}

/// What the residuals say of the centre: their weighted scores J'wr and the normal matrix they belong to.
struct Scores {
  Eigen::MatrixXd of_pixel;  ///< n x k
  Eigen::MatrixXd WJ;        ///< n x k, rows of J times their weights
  Eigen::MatrixXd N;         ///< k x k
  double squares = 0;
};
Scores scores_of(const std::vector<Pixel>& pixels, const State& s, const Eigen::MatrixXd& J, const Prior& prior) {
  const Eigen::VectorXd weights = weights_of(pixels);
  Scores out;
  out.WJ = weights.asDiagonal() * J;
  out.of_pixel = s.residual.asDiagonal() * out.WJ;
  out.N = J.transpose() * out.WJ;
  out.N.diagonal().head(s.p.size()) += noise_variance(s) * prior.precision;
  out.squares = weights.dot(s.residual.cwiseAbs2());
  return out;
}

/// Pixels by their column and row.
class PixelGrid {
 public:
  explicit PixelGrid(const std::vector<Pixel>& pixels) {
    int right = 0, bottom = 0;
    left_ = top_ = 1 << 30;
    for (const Pixel& p : pixels) {
      left_ = std::min(left_, p.col), top_ = std::min(top_, p.row);
      right = std::max(right, p.col), bottom = std::max(bottom, p.row);
    }
    width_ = right - left_ + 1, height_ = bottom - top_ + 1;
    place_.assign(static_cast<std::size_t>(width_) * height_, -1);
    for (std::size_t i = 0; i < pixels.size(); ++i)
      place_[static_cast<std::size_t>(pixels[i].row - top_) * width_ + (pixels[i].col - left_)] = static_cast<int>(i);
  }
  int left() const { return left_; }
  int top() const { return top_; }
  int width() const { return width_; }
  int height() const { return height_; }
  /// Index of the pixel there; -1: none.
  int at(int col, int row) const {
    col -= left_, row -= top_;
    return col < 0 || row < 0 || col >= width_ || row >= height_ ? -1
                                                                 : place_[static_cast<std::size_t>(row) * width_ + col];
  }

 private:
  int left_ = 0, top_ = 0, width_ = 0, height_ = 0;
  std::vector<int> place_;
};

/// Residuals side by side are alike where the drawing does not fit, so scores of neighbours count together, by
/// (1 - |dx| / L)(1 - |dy| / L) with L = reach + 1 (Newey and West 1987). That is what squares of L x L pixels have in
/// common, so it is the sum of their outer products over all places of such a square.
Eigen::Matrix2d neighbour_covariance(const std::vector<Pixel>& pixels, const PixelGrid& grid,
                                     const Eigen::MatrixXd& influence, int reach) {
  const int length = reach + 1, width = grid.width() + reach, height = grid.height() + reach;
  Eigen::Matrix2Xd along = Eigen::Matrix2Xd::Zero(2, width * grid.height());  // summed along rows
  for (std::size_t i = 0; i < pixels.size(); ++i)
    for (int k = 0; k < length; ++k)
      along.col((pixels[i].row - grid.top()) * width + pixels[i].col - grid.left() + k) +=
          influence.row(static_cast<Eigen::Index>(i)).transpose();
  Eigen::Matrix2Xd squares = Eigen::Matrix2Xd::Zero(2, width * height);
  for (int row = 0; row < grid.height(); ++row)
    for (int k = 0; k < length; ++k)
      squares.middleCols((row + k) * width, width) += along.middleCols(row * width, width);
  return squares * squares.transpose() / (length * length);
}

/// How the centre moves when one eighth of the turn is left out, squared, against what independent residuals of that
/// variance would do: what wear and shadows on one side do shows here. After Efron (1982), The jackknife, by groups.
double jackknife_strain(const std::vector<Pixel>& pixels, const State& s, const Scores& scores,
                        const Eigen::MatrixXd& J, double variance) {
  constexpr int sectors = 8;
  std::array<std::vector<Eigen::Index>, sectors> rows;
  for (Eigen::Index i = 0; i < J.rows(); ++i) {
    const Eigen::Vector2d d = pixels[i].x - s.p.head<2>();
    rows[static_cast<std::size_t>((std::atan2(d.y(), d.x()) / (2 * pi) + 1.0) * sectors) % sectors].push_back(i);
  }
  double seen = 0, expected = 0;
  for (const std::vector<Eigen::Index>& of_sector : rows) {
    const Eigen::MatrixXd N = J(of_sector, Eigen::all).transpose() * scores.WJ(of_sector, Eigen::all);
    const Eigen::VectorXd sum = scores.of_pixel(of_sector, Eigen::all).colwise().sum();
    Eigen::MatrixXd rest = scores.N - N;
    rest.diagonal() += 1e-6 * scores.N.diagonal();
    const Eigen::MatrixXd of_centre = inverse_of(rest).topRows<2>();
    seen += (of_centre * sum).squaredNorm();
    expected += variance * (of_centre * N * of_centre.transpose()).trace();
  }
  return expected > 0 ? seen / expected : 1.0;
}

/// See Target::lopsided. Noise is what neighbours differ by.
double lopsidedness(const std::vector<Pixel>& pixels, const PixelGrid& grid, const State& s, int step) {
  double noise = 0, odd = 0, mean = 0, variance = 0;
  int neighbours = 0, pairs = 0;
  for (std::size_t i = 0; i < pixels.size(); ++i) {
    const double r = s.residual[static_cast<Eigen::Index>(i)];
    mean += pixels[i].value / static_cast<double>(pixels.size());
    if (const int next = grid.at(pixels[i].col + 1, pixels[i].row); next >= 0)
      noise += std::pow(r - s.residual[next], 2) / 2, ++neighbours;
    const Eigen::Vector2d across = 2 * s.p.head<2>() - pixels[i].x;
    const int opposite =
        grid.at(static_cast<int>(std::floor(across.x() / step)), static_cast<int>(std::floor(across.y() / step)));
    if (opposite >= 0) odd += std::pow(0.5 * (r - s.residual[opposite]), 2), ++pairs;
  }
  for (const Pixel& pixel : pixels) variance += std::pow(pixel.value - mean, 2) / static_cast<double>(pixels.size());
  if (pairs == 0 || neighbours == 0 || !(variance > 0)) return nan;
  return std::max(0.0, odd / pairs - 0.5 * noise / neighbours) / variance;
}

/// As if all residuals were independent, times what neighbours that are alike, or whole sectors that are, make of it;
/// and a share for what drawing and pixels have not in common, measured on drawn sheets (docs/methods.md).
Eigen::Matrix2d covariance_of(const std::vector<Pixel>& pixels, const PixelGrid& grid, const State& s,
                              const Eigen::MatrixXd& J, const Prior& prior, double& strain) {
  const Scores scores = scores_of(pixels, s, J, prior);
  const Eigen::MatrixXd inverse = inverse_of(scores.N);
  const auto n = static_cast<double>(J.rows());
  const double variance = scores.squares / std::max(1.0, n - static_cast<double>(J.cols()));
  const Eigen::Matrix2d plain = variance * inverse.topLeftCorner<2, 2>();
  const Eigen::MatrixXd influence = scores.of_pixel * inverse.topRows<2>().transpose();
  const int reach = 3 + static_cast<int>(2 * std::exp(s.p[log_blur]));  // blur makes alike what lies within it
  const double alike = neighbour_covariance(pixels, grid, influence, reach).trace() / plain.trace();
  strain = jackknife_strain(pixels, s, scores, J, variance);
  return 1.25 * std::max({1.0, alike, strain}) * plain + 0.004 * 0.004 * Eigen::Matrix2d::Identity();
}

/// Half the diameter, pixels: of an ellipse the geometric mean.
double radius_of(TargetKind kind, const TargetShape& start, const Eigen::VectorXd& p) {
  if (has_lines(kind)) return start.radius;
  return 1 / std::sqrt(std::max(1e-12, p[shape] * p[shape + 2] - p[shape + 1] * p[shape + 1]));
}

/// How far the centre of a circle may be off, pixels: by a tilt of the plane that is not as assumed; and by half of
/// what one diameter lacks against the other, where the ellipse is not the one that a circle shows. Something hides a
/// part.
double off_circle(const Eigen::VectorXd& p, double radius, const PlaneView& view) {
  if (!std::isfinite(view.c)) return 0;
  Eigen::Matrix2d M;
  M << p[shape], p[shape + 1], p[shape + 1], p[shape + 2];
  const Eigen::Vector2d seen = singular_values_2x2(M * view.M.inverse());
  const Eigen::Vector2d squarely = singular_values_2x2(view.M);
  const double tangent = std::sqrt(std::max(0.0, std::pow(squarely[0] / squarely[1], 2) - 1));  // of the view's tilt
  const double slope = 2 * view.sigma_slope;
  const double explained = 0.02 + slope * tangent + 0.5 * slope * slope;
  const double lacks = std::max(0.0, 1 - seen[1] / seen[0] - explained);
  return std::hypot(radius * radius * view.sigma_slope / view.c, lacks * radius);
}

/// How the target lies by its fit: what its window is stays as it was.
TargetShape shape_of(TargetKind kind, const TargetShape& start, const State& s, double radius) {
  TargetShape out = start;
  out.x = s.p.head<2>();
  out.radius = radius;
  out.light = s.b > 0;
  if (has_lines(kind)) {
    out.angle[0] = s.p[shape], out.angle[1] = s.p[shape + 1];
    if (kind != TargetKind::checker)
      out.half_width = (kind == TargetKind::cross ? 0.5 : 0.25) * (std::exp(s.p[shape + 2]) + std::exp(s.p[shape + 3]));
    return out;
  }
  out.M << s.p[shape], s.p[shape + 1], s.p[shape + 1], s.p[shape + 2];
  if (kind != TargetKind::disc) out.inner = s.p[shape + 3];
  if (kind == TargetKind::bullseye) out.disc = s.p[shape + 4];
  return out;
}

/// Shapes that no target has: lines that nearly coincide, circles seen from the side or as thin as a line.
bool plausible(TargetKind kind, const TargetShape& start, const Eigen::VectorXd& p) {
  if (has_lines(kind)) {
    // Normals transform with the transpose, so this is the angle between the lines in the plane.
    const Eigen::Vector2d a = (start.A.transpose() * direction(p[shape])).normalized();
    const Eigen::Vector2d b = (start.A.transpose() * direction(p[shape + 1])).normalized();
    if (std::abs(a.dot(b)) > 0.8) return false;
    if (kind == TargetKind::checker) return true;
    const double thin = std::exp(std::min(p[shape + 2], p[shape + 3])),
                 thick = std::exp(std::max(p[shape + 2], p[shape + 3]));
    if (kind == TargetKind::corner) return thick < 2.2 * thin && thick < 0.7 * start.radius && thin > 0.6;
    return thick < 2.2 * thin && thick < 0.6 * start.radius && thin > 0.3;
  }
  Eigen::Matrix2d M;
  M << p[shape], p[shape + 1], p[shape + 1], p[shape + 2];
  const double half = 0.5 * M.trace(), off = std::sqrt(std::max(0.0, half * half - M.determinant()));
  if (!(half - off > 0.35 * (half + off))) return false;
  if (kind == TargetKind::disc) return true;
  if (kind == TargetKind::ring) return p[shape + 3] > 0.2 && p[shape + 3] < 0.9;
  return p[shape + 4] > 0.1 && p[shape + 4] < p[shape + 3] - 0.05 && p[shape + 3] < 0.95;
}

}  // namespace

double Target::sigma() const { return std::sqrt(0.5 * covariance.trace()); }

PlaneView plane_view(const Eigen::Vector3d& normal, const Eigen::Vector3d& v, double c, double sigma_slope) {
  // v moves by d.x / c to the right and by -d.y / c upwards.
  Eigen::Matrix<double, 3, 2> dv;
  dv << 1 / c, 0, 0, -1 / c, 0, 0;
  PlaneView out;
  out.c = c;
  out.sigma_slope = sigma_slope;
  out.g = -(normal.transpose() * dv).transpose() / normal.dot(v);
  Eigen::Matrix<double, 2, 3> axes;
  axes.row(0) = normal.unitOrthogonal();
  axes.row(1) = normal.cross(axes.row(0).transpose());
  out.M = axes * (dv - v * (normal.transpose() * dv) / normal.dot(v));
  return out;
}

namespace {

/// Parameters of a ring whose edges have changed places on the way: it shows the same with paint of the other sign.
Eigen::VectorXd with_edges_swapped(Eigen::VectorXd p) {
  const double inner = p[shape + 3];
  p.segment<3>(shape) /= inner;
  p[shape + 3] = 1 / inner;
  return p;
}

/// The drawing that fits best; nothing where it does not converge or is no target's. Leaves the pixels' weights.
std::optional<State> best_drawing(TargetKind kind, const TargetShape& start, const Prior& prior,
                                  const TargetOptions& options, std::vector<Pixel>& pixels, double least,
                                  double enough = 1) {
  if (static_cast<Eigen::Index>(pixels.size()) < 2 * (prior.mean.size() + 2)) return std::nullopt;
  const auto [darkest, lightest] = std::minmax_element(
      pixels.begin(), pixels.end(), [](const Pixel& a, const Pixel& b) { return a.value < b.value; });
  const double range = lightest->value - darkest->value;
  auto s = minimise(pixels, kind, prior, start, options.view.g, kind != TargetKind::checker, least, enough);
  if (!s) return std::nullopt;
  if (kind == TargetKind::ring && s->p[shape + 3] > 1)
    s = evaluate(pixels, kind, with_edges_swapped(s->p), options.view.g, true);
  if (!plausible(kind, start, s->p)) return std::nullopt;
  // Light and dark must have been seen, or nearly: a soft saddle of grass is the middle of any checker that is blurred
  // enough.
  const double contrast = std::abs(s->b) * (kind == TargetKind::checker ? 2 : 1);
  if (contrast > most_extrapolated * range) return std::nullopt;
  return s;
}

}  // namespace

bool may_fit(const photo::Grey& image, TargetKind kind, const TargetShape& start, const TargetOptions& options,
             double least_fit) {
  std::vector<Pixel> pixels = window_of(image, start);
  const Prior prior = prior_of(kind, start, options.known_shape);
  const auto s = best_drawing(kind, start, prior, options, pixels, least_fit, least_fit);
  return s && explained(pixels, *s) >= least_fit;
}

std::optional<Target> fit_from(const photo::Grey& image, TargetKind kind, const TargetShape& start,
                               const TargetOptions& options, double least_fit) {
  std::vector<Pixel> pixels = window_of(image, start);
  const Prior prior = prior_of(kind, start, options.known_shape);
  const auto s = best_drawing(kind, start, prior, options, pixels, least_fit);
  if (!s) return std::nullopt;
  Target out;
  out.fit = explained(pixels, *s);
  if (out.fit < least_fit) return std::nullopt;
  out.kind = kind;
  out.x = s->p.head<2>();
  const PixelGrid grid(pixels);
  out.covariance =
      covariance_of(pixels, grid, *s, jacobian(pixels, kind, *s, options.view.g, kind != TargetKind::checker, true),
                    prior, out.strain);
  const double radius = radius_of(kind, start, s->p);
  out.size_px = 2 * radius;
  out.shape = shape_of(kind, start, *s, radius);
  out.contrast = std::abs(s->b) * (kind == TargetKind::checker ? 2 : 1);
  out.tone = s->a + (kind == TargetKind::checker ? std::abs(s->b) : s->b);
  out.lopsided = lopsidedness(pixels, grid, *s, step_of(start));
  // What differs from side to side moves the centre, by how much shows on drawn targets in shadow and wear of 6 to 20
  // pixels: a pixel by its root. Whole ones come up to 0.0015, and their centres stay.
  if (out.lopsided > 0.0015) out.covariance.diagonal().array() += out.lopsided - 0.0015;
  if (!has_lines(kind)) out.covariance.diagonal().array() += std::pow(off_circle(s->p, radius, options.view), 2);
  return out;
}

}  // namespace mesograph::sight
