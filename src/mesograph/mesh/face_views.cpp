#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/mesh/face_views.hpp>

namespace mesograph::mesh {

namespace {

constexpr int step = 2;  // pixels, side of a square of the depth buffer

/// How far away the nearest face is in each square.
class DepthBuffer {
 public:
  DepthBuffer(int width, int height)
      : columns_((width + step - 1) / step),
        rows_((height + step - 1) / step),
        range_(static_cast<std::size_t>(columns_) * rows_, std::numeric_limits<float>::infinity()) {}

  /// Takes in a triangle by its corners' image points and ranges.
  void draw(const std::array<Eigen::Vector2d, 3>& x, const std::array<double, 3>& range) {
    std::array<Eigen::Vector2d, 3> p;
    for (std::size_t k = 0; k < 3; ++k) p[k] = x[k] / step - Eigen::Vector2d::Constant(0.5);  // middles are whole
    const Eigen::Vector2d a = p[1] - p[0], b = p[2] - p[0];
    const double area = a.x() * b.y() - a.y() * b.x();
    if (std::abs(area) < 1e-9) return;
    const int west = std::max(0, static_cast<int>(std::ceil(std::min({p[0].x(), p[1].x(), p[2].x()})))),
              east = std::min(columns_ - 1, static_cast<int>(std::floor(std::max({p[0].x(), p[1].x(), p[2].x()})))),
              north = std::max(0, static_cast<int>(std::ceil(std::min({p[0].y(), p[1].y(), p[2].y()})))),
              south = std::min(rows_ - 1, static_cast<int>(std::floor(std::max({p[0].y(), p[1].y(), p[2].y()}))));
    for (int row = north; row <= south; ++row)
      for (int col = west; col <= east; ++col) {
        const Eigen::Vector2d d = Eigen::Vector2d(col, row) - p[0];
        const double v = (d.x() * b.y() - d.y() * b.x()) / area, w = (a.x() * d.y() - a.y() * d.x()) / area;
        if (v < 0 || w < 0 || v + w > 1) continue;
        // Over a plane the inverse of the depth is linear in the image.
        const double r = 1 / ((1 - v - w) / range[0] + v / range[1] + w / range[2]);
        float& there = range_[static_cast<std::size_t>(row) * columns_ + col];
        there = std::min(there, static_cast<float>(r));
      }
  }
  /// Of the square of an image point.
  float at(const Eigen::Vector2d& x) const {
    const int col = std::clamp(static_cast<int>(x.x()) / step, 0, columns_ - 1),
              row = std::clamp(static_cast<int>(x.y()) / step, 0, rows_ - 1);
    return range_[static_cast<std::size_t>(row) * columns_ + col];
  }

 private:
  int columns_, rows_;
  std::vector<float> range_;
};

bool within(const ShownIn& photo, const Eigen::Vector2d& x) {
  constexpr double rim = 2;  // pixels that resampling needs
  return x.x() >= rim && x.y() >= rim && x.x() < photo.width - rim && x.y() < photo.height - rim;
}

/// Seven places of a triangle, as weights of its corners: its middle, near its corners, near the middles of its sides.
constexpr std::array<std::array<double, 3>, 7> places = {{{1 / 3., 1 / 3., 1 / 3.},
                                                          {0.8, 0.1, 0.1},
                                                          {0.1, 0.8, 0.1},
                                                          {0.1, 0.1, 0.8},
                                                          {0.45, 0.45, 0.1},
                                                          {0.1, 0.45, 0.45},
                                                          {0.45, 0.1, 0.45}}};

/// Seen from the photo, how a face lies: the cosine between its normal and the ray back; negative: from behind.
double facing(const TriangleMesh& mesh, const Face& f, const Eigen::Vector3d& C) {
  const Eigen::Vector3d n = mesh.normal(f), back = C - mesh.at(f[0]);
  return n.dot(back) / std::max(1e-300, n.norm() * back.norm());
}

}  // namespace

PhotoViews views_of(const TriangleMesh& mesh, const ShownIn& photo) {
  std::vector<Eigen::Vector2f> x(mesh.X.size(), Eigen::Vector2f::Constant(std::numeric_limits<float>::quiet_NaN()));
  for (std::size_t v = 0; v < mesh.X.size(); ++v)
    if (const auto shown = photo.image(mesh.X[v])) x[v] = shown->x.cast<float>();
  DepthBuffer nearest(photo.width, photo.height);
  const auto corner = [&](std::int32_t v) { return x[static_cast<std::size_t>(v)].cast<double>().eval(); };
  std::vector<std::int32_t> candidates;
  for (std::size_t i = 0; i < mesh.faces.size(); ++i) {
    const Face& f = mesh.faces[i];
    const std::array<Eigen::Vector2d, 3> at = {corner(f[0]), corner(f[1]), corner(f[2])};
    if (!at[0].allFinite() || !at[1].allFinite() || !at[2].allFinite()) continue;
    nearest.draw(
        at, {(mesh.at(f[0]) - photo.C).norm(), (mesh.at(f[1]) - photo.C).norm(), (mesh.at(f[2]) - photo.C).norm()});
    if (facing(mesh, f, photo.C) > 0.05 && within(photo, at[0]) && within(photo, at[1]) && within(photo, at[2]))
      candidates.push_back(static_cast<std::int32_t>(i));
  }
  PhotoViews out;
  for (const std::int32_t i : candidates) {
    const Face& f = mesh.faces[static_cast<std::size_t>(i)];
    const double pixel = [&] {  // m on the ground
      const Eigen::Vector2d a = corner(f[1]) - corner(f[0]);
      return (mesh.at(f[1]) - mesh.at(f[0])).norm() / std::max(1e-6, a.norm());
    }();
    const double margin = 2 * step * pixel / std::max(0.2, facing(mesh, f, photo.C));
    std::array<float, 3> sum{};
    int seen = 0;
    for (const auto& w : places) {
      const Eigen::Vector3d X = w[0] * mesh.at(f[0]) + w[1] * mesh.at(f[1]) + w[2] * mesh.at(f[2]);
      const auto shown = photo.image(X);
      if (!shown || !((X - photo.C).norm() <= nearest.at(shown->x) + margin)) continue;
      const std::array<float, 3> colour = photo.colour(*shown);
      for (std::size_t ch = 0; ch < 3; ++ch) sum[ch] += colour[ch];
      ++seen;
    }
    if (seen == 0) continue;
    const Eigen::Vector2d a = corner(f[1]) - corner(f[0]), b = corner(f[2]) - corner(f[0]);
    const double share = seen / static_cast<double>(places.size());
    View view{photo.number,
              static_cast<float>(0.5 * std::abs(a.x() * b.y() - a.y() * b.x()) * std::pow(share, 4) * photo.sharpness),
              {},
              0};
    for (std::size_t ch = 0; ch < 3; ++ch)
      view.colour[ch] = static_cast<std::uint8_t>(std::clamp(sum[ch] / static_cast<float>(seen), 0.0F, 255.0F));
    out.face.push_back(i), out.view.push_back(view);
  }
  return out;
}

FaceViews::FaceViews(std::size_t faces, std::vector<PhotoViews> photos) : first_(faces + 1, 0) {
  for (const PhotoViews& p : photos)
    for (const std::int32_t f : p.face) ++first_[static_cast<std::size_t>(f) + 1];
  for (std::size_t f = 0; f < faces; ++f) first_[f + 1] += first_[f];
  views_.resize(first_.back());
  std::vector<std::size_t> next(first_.begin(), first_.end() - 1);
  for (PhotoViews& p : photos) {
    for (std::size_t i = 0; i < p.face.size(); ++i) views_[next[static_cast<std::size_t>(p.face[i])]++] = p.view[i];
    p = {};
  }
}

void FaceViews::mark_odd() {
  // Grey levels off the middle, of all views: their spread tells what light and texture do.
  const auto off = [](const View& v, const std::array<float, 3>& middle) {
    float most = 0;
    for (std::size_t ch = 0; ch < 3; ++ch)
      most = std::max(most, std::abs(static_cast<float>(v.colour[ch]) - middle[ch]));
    return most;
  };
  const auto middle_of = [&](std::size_t f) {
    std::array<float, 3> out{};
    for (std::size_t ch = 0; ch < 3; ++ch) {
      std::vector<double> levels;
      for (const View& v : (*this)[f]) levels.push_back(v.colour[ch]);
      out[ch] = static_cast<float>(median(std::move(levels)));
    }
    return out;
  };
  std::vector<double> usual;
  constexpr std::size_t few = 7;  // every seventh face tells enough
  for (std::size_t f = 0; f < faces(); f += few)
    if ((*this)[f].size() >= 3) {
      const auto middle = middle_of(f);
      for (const View& v : (*this)[f]) usual.push_back(off(v, middle));
    }
  if (usual.empty()) return;
  constexpr double sigmas = 6, least = 20;  // grey levels: below, nobody sees it
  const double most = std::max(least, sigmas * 1.4826 * median(std::move(usual)));
  for (std::size_t f = 0; f < faces(); ++f) {
    if ((*this)[f].size() < 3) continue;
    const auto middle = middle_of(f);
    for (std::size_t i = first_[f]; i < first_[f + 1]; ++i) views_[i].odd = off(views_[i], middle) > most;
  }
}

}  // namespace mesograph::mesh
