#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/sight/target_drawing.hpp>

namespace mesograph::sight {

namespace {

/// A step from -1 to 1 that point spread and pixel have softened; `d` from the edge over blur.
/// The error function after Abramowitz and Stegun (1964), 7.1.28: smooth, without a call, and good to 3e-7.
inline double soft_sign(double d) {
  const double reach = std::abs(d) * M_SQRT1_2, t = reach < 5.0 ? reach : 5.0;
  double p =
      1 + t * (0.0705230784 +
               t * (0.0422820123 + t * (0.0092705272 + t * (0.0001520143 + t * (0.0002765672 + t * 0.0000430638)))));
  p *= p, p *= p, p *= p, p *= p;
  return std::copysign(1 - 1 / p, d);
}
/// 1 inside, 0 outside.
inline double soft_side(double d) { return 0.5 + 0.5 * soft_sign(d); }

// The drawings: grey values T(dx, dy; p), from the centre, pixels. Made once for a set of parameters, asked pixel by
// pixel in loops that the compiler can make wide: plain numbers, no branches.

/// Four quarters, +1 and -1, between two lines whose normals have the angles p[shape], p[shape + 1]. Lines stay lines
/// under any perspective, so the crossing is the target's point whatever g is.
class Checker {
 public:
  Checker(const Eigen::VectorXd& p, const Eigen::Vector2d&)
      : a_(direction(p[shape]) / std::exp(p[log_blur])), b_(direction(p[shape + 1]) / std::exp(p[log_blur])) {}
  double operator()(double dx, double dy) const {
    return soft_sign(a_[0] * dx + a_[1] * dy) * soft_sign(b_[0] * dx + b_[1] * dy);
  }

 private:
  Eigen::Vector2d a_, b_;
};

/// 1 on two strips, 0 beside them; half-widths exp(p[shape + 2]), exp(p[shape + 3]) at the centre, and narrower towards
/// the horizon.
class Cross {
 public:
  Cross(const Eigen::VectorXd& p, const Eigen::Vector2d& g) : g_(g) {
    const double blur = std::exp(p[log_blur]);
    for (int i = 0; i < 2; ++i) n_[i] = direction(p[shape + i]) / blur, h_[i] = std::exp(p[shape + 2 + i]) / blur;
  }
  double operator()(double dx, double dy) const {
    const double nearer = 1 - (g_[0] * dx + g_[1] * dy);
    double beside = 1;
    for (int i = 0; i < 2; ++i) {
      const double t = n_[i][0] * dx + n_[i][1] * dy, h = h_[i] * nearer;
      beside *= 1 - (soft_side(h - t) - soft_side(-h - t));
    }
    return 1 - beside;
  }

 private:
  Eigen::Vector2d n_[2], g_;
  double h_[2];
};

/// Inside the image of the circle |M d / (1 - g'd)| = 1, M symmetric, because a circle looks the same however it is
/// turned; a ring (two edges) also outside that of radius p[shape + 3], and again inside that of p[shape + 4] (three).
template <int edges>
class Round {
 public:
  Round(const Eigen::VectorXd& p, const Eigen::Vector2d& g)
      : g_(g),
        blur_(std::exp(p[log_blur])),
        inner_(edges > 1 ? p[shape + 3] : 0.0),
        middle_(edges > 2 ? p[shape + 4] : 0.0) {
    M_ << p[shape], p[shape + 1], p[shape + 1], p[shape + 2];
  }
  double operator()(double dx, double dy) const {
    const double nearer = 1 - (g_[0] * dx + g_[1] * dy), depth = nearer > 0.1 ? nearer : 0.1;
    const double qx = (M_(0, 0) * dx + M_(0, 1) * dy) / depth, qy = (M_(1, 0) * dx + M_(1, 1) * dy) / depth;
    const double f = std::sqrt(qx * qx + qy * qy + 1e-18);  // never 0
    // of |q| by d
    const double sx = ((M_(0, 0) * qx + M_(0, 1) * qy) / f + f * g_[0]) / depth,
                 sy = ((M_(1, 0) * qx + M_(1, 1) * qy) / f + f * g_[1]) / depth;
    const double per_pixel = blur_ * std::sqrt(sx * sx + sy * sy + 1e-18);
    double paint = soft_side((1 - f) / per_pixel);
    if constexpr (edges > 1) paint -= soft_side((inner_ - f) / per_pixel);
    if constexpr (edges > 2) paint += soft_side((middle_ - f) / per_pixel);
    return paint;
  }

 private:
  Eigen::Matrix2d M_;
  Eigen::Vector2d g_;
  double blur_, inner_, middle_;
};

/// 1 on two strips that end where they meet, 0 beside them: the quarter between both outer edges, whose normals have
/// the angles p[shape], p[shape + 1], less that between the inner ones, strips' widths exp(p[shape + 2]),
/// exp(p[shape + 3]) farther in at the corner, and narrower towards the horizon.
class Corner {
 public:
  Corner(const Eigen::VectorXd& p, const Eigen::Vector2d& g) : g_(g) {
    const double blur = std::exp(p[log_blur]);
    for (int i = 0; i < 2; ++i) n_[i] = direction(p[shape + i]) / blur, w_[i] = std::exp(p[shape + 2 + i]) / blur;
  }
  double operator()(double dx, double dy) const {
    const double nearer = 1 - (g_[0] * dx + g_[1] * dy);
    double outer = 1, inner = 1;
    for (int i = 0; i < 2; ++i) {
      const double t = n_[i][0] * dx + n_[i][1] * dy;
      outer *= soft_side(t), inner *= soft_side(t - w_[i] * nearer);
    }
    return outer - inner;
  }

 private:
  Eigen::Vector2d n_[2], g_;
  double w_[2];
};

/// Offsets from the centre to values of a drawing, n of them.
template <typename Drawing>
inline void draw_all(const Drawing drawing, const double* dx, const double* dy, Eigen::Index n, double* __restrict T) {
  for (Eigen::Index i = 0; i < n; ++i) T[i] = drawing(dx[i], dy[i]);
}
MESOGRAPH_WIDE void draw(const Checker& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}
MESOGRAPH_WIDE void draw(const Cross& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}
MESOGRAPH_WIDE void draw(const Corner& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}
MESOGRAPH_WIDE void draw(const Round<1>& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}
MESOGRAPH_WIDE void draw(const Round<2>& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}
MESOGRAPH_WIDE void draw(const Round<3>& d, const double* dx, const double* dy, Eigen::Index n, double* T) {
  draw_all(d, dx, dy, n, T);
}

template <typename Drawing>
Eigen::VectorXd drawn_as(const Eigen::VectorXd& p, const Eigen::Vector2d& g, const Eigen::VectorXd& x,
                         const Eigen::VectorXd& y) {
  const Eigen::VectorXd dx = x.array() - p[at_x], dy = y.array() - p[at_y];
  Eigen::VectorXd out(x.size());
  draw(Drawing(p, g), dx.data(), dy.data(), out.size(), out.data());
  return out;
}

}  // namespace

bool has_lines(TargetKind kind) {
  return kind == TargetKind::checker || kind == TargetKind::cross || kind == TargetKind::corner;
}

Eigen::VectorXd parameters_of(TargetKind kind, const TargetShape& start) {
  const int of_shape = kind == TargetKind::checker    ? 2
                       : kind == TargetKind::disc     ? 3
                       : kind == TargetKind::bullseye ? 5
                                                      : 4;
  Eigen::VectorXd p(shape + of_shape);
  p[at_x] = start.x.x(), p[at_y] = start.x.y();
  p[log_blur] = std::log(0.8);
  if (has_lines(kind)) {
    p[shape] = start.angle[0], p[shape + 1] = start.angle[1];
    // Of a cross half the strips' widths, from the middle; of a corner all of them, from the outer edges.
    if (kind == TargetKind::cross) p[shape + 2] = p[shape + 3] = std::log(start.half_width);
    if (kind == TargetKind::corner) p[shape + 2] = p[shape + 3] = std::log(2 * start.half_width);
  } else {
    p[shape] = start.M(0, 0), p[shape + 1] = start.M(0, 1), p[shape + 2] = start.M(1, 1);
    if (kind != TargetKind::disc) p[shape + 3] = start.inner;
    if (kind == TargetKind::bullseye) p[shape + 4] = start.disc;
  }
  return p;
}

Eigen::VectorXd drawn(TargetKind kind, const Eigen::VectorXd& p, const Eigen::Vector2d& g, const Eigen::VectorXd& x,
                      const Eigen::VectorXd& y) {
  switch (kind) {
    case TargetKind::checker:
      return drawn_as<Checker>(p, g, x, y);
    case TargetKind::cross:
      return drawn_as<Cross>(p, g, x, y);
    case TargetKind::corner:
      return drawn_as<Corner>(p, g, x, y);
    case TargetKind::ring:
      return drawn_as<Round<2>>(p, g, x, y);
    case TargetKind::bullseye:
      return drawn_as<Round<3>>(p, g, x, y);
    default:
      return drawn_as<Round<1>>(p, g, x, y);
  }
}

}  // namespace mesograph::sight
