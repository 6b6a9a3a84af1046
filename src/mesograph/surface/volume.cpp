#include <ogr_geometry.h>

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <memory>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/surface/volume.hpp>

namespace mesograph::surface {

namespace {

using Geometry = std::unique_ptr<OGRGeometry>;

Geometry ogr_of(const cloud::Polygon& polygon) {
  auto out = std::make_unique<OGRPolygon>();
  for (const auto& ring : polygon.rings) {
    OGRLinearRing line;
    for (const Eigen::Vector2d& at : ring) line.addPoint(at.x(), at.y());
    line.closeRings();
    out->addRing(&line);
  }
  return out;
}

std::vector<cloud::Polygon> from_ogr(const OGRGeometry* geometry, const std::string& name) {
  std::vector<cloud::Polygon> out;
  if (!geometry) return out;
  const Geometry many(OGRGeometryFactory::forceToMultiPolygon(geometry->clone()));
  if (wkbFlatten(many->getGeometryType()) != wkbMultiPolygon) return out;
  for (const auto* polygon : many->toMultiPolygon()) {
    cloud::Polygon one{name, {}};
    for (const auto* ring : polygon) {
      one.rings.emplace_back();
      for (int i = 0; i < ring->getNumPoints(); ++i) one.rings.back().emplace_back(ring->getX(i), ring->getY(i));
    }
    if (!one.rings.empty()) out.push_back(std::move(one));
  }
  return out;
}

struct RimPoint {
  Eigen::Vector2d at;
  double z, sigma;
};

/// Heights of the outer outline, every cell.
std::vector<RimPoint> rim_of(const Surface& s, const cloud::Polygon& polygon, double& perimeter) {
  std::vector<RimPoint> out;
  perimeter = 0;
  const auto& ring = polygon.rings.front();
  double rest = 0;
  for (std::size_t i = 0; i < ring.size(); ++i) {
    const Eigen::Vector2d a = ring[i], d = ring[(i + 1) % ring.size()] - a;
    const double length = d.norm();
    perimeter += length;
    for (; rest < length; rest += s.grid.cell) {
      const Eigen::Vector2d at = a + d * (rest / length);
      const double z = s.height(at);
      const int col = s.grid.column(at.x()), row = s.grid.row(at.y());
      if (std::isfinite(z) && s.grid.inside(col, row)) {
        const float sigma = s.sigma[s.grid.at(col, row)];
        out.push_back({at, z, std::isfinite(sigma) ? sigma : 0.0});
      }
    }
    rest -= length;
  }
  return out;
}

/// A base's height at a place, and how its error goes into a volume: from the sums of area, and of area times place.
struct Ground {
  std::function<double(const Eigen::Vector2d&)> height;
  /// Variance of the mean height of the base over cells whose weights and places sum to these.
  std::function<double(double area, const Eigen::Vector2d& moment)> variance;
  bool own = true;  ///< follows the surface's own errors, so that those in common cancel
};

constexpr std::size_t least_rim = 6;

/// Independent points that a rim of so many is worth: noise that is alike over an area of n cells is over root n along
/// a line.
double worth_of(std::size_t rim, double alike) {
  return std::max(3.0, static_cast<double>(rim) / std::max(1.0, std::sqrt(alike)));
}

struct RimPlane {
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  Eigen::Vector3d plane = Eigen::Vector3d::Zero();  ///< at the middle, per m east, per m north
  Eigen::Matrix3d normal = Eigen::Matrix3d::Identity();
  double height(const Eigen::Vector2d& at) const { return plane[0] + plane.tail<2>().dot(at - middle); }
};

/// Robust plane through the rim (Huber 1964).
RimPlane fit_plane(const std::vector<RimPoint>& rim) {
  RimPlane out;
  for (const RimPoint& p : rim) out.middle += p.at / static_cast<double>(rim.size());
  std::vector<double> off(rim.size(), 0.0);
  double scale = INFINITY;
  for (int round = 0; round < 6; ++round) {
    out.normal.setZero();
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    for (std::size_t i = 0; i < rim.size(); ++i) {
      const Eigen::Vector3d a(1, rim[i].at.x() - out.middle.x(), rim[i].at.y() - out.middle.y());
      const double w = std::min(1.0, 1.5 * scale / std::max(1e-12, std::abs(off[i])));
      out.normal += w * a * a.transpose(), right += w * rim[i].z * a;
    }
    out.plane = out.normal.ldlt().solve(right);
    std::vector<double> sizes;
    for (std::size_t i = 0; i < rim.size(); ++i) {
      off[i] = rim[i].z - out.height(rim[i].at);
      sizes.push_back(std::abs(off[i]));
    }
    scale = std::max(1e-6, 1.4826 * median(std::move(sizes)));
  }
  return out;
}

/// What a rim's heights are off by: noise of each, and how uneven the ground is along it, which its middle is as much
/// and which no number of points averages.
struct RimErrors {
  double noise = 0, uneven = 0;  // m^2
};
RimErrors errors_of(const std::vector<RimPoint>& rim, const RimPlane& plane) {
  RimErrors out;
  std::vector<double> sizes;
  for (const RimPoint& p : rim) {
    out.noise += p.sigma * p.sigma / static_cast<double>(rim.size());
    sizes.push_back(std::abs(p.z - plane.height(p.at)));
  }
  out.uneven = std::max(0.0, std::pow(1.4826 * median(std::move(sizes)), 2) - out.noise);
  return out;
}

std::optional<Ground> rim_plane(const std::vector<RimPoint>& rim, double alike) {
  if (rim.size() < least_rim) return std::nullopt;
  const RimPlane fitted = fit_plane(rim);
  const double factor = static_cast<double>(rim.size()) / worth_of(rim.size(), alike);
  const RimErrors errors = errors_of(rim, fitted);
  const Eigen::Matrix3d covariance = errors.noise * factor * fitted.normal.inverse();
  return Ground{[=](const Eigen::Vector2d& at) { return fitted.height(at); },
                [=](double area, const Eigen::Vector2d& moment) {
                  const Eigen::Vector2d mean = moment / area - fitted.middle;
                  const Eigen::Vector3d a(1, mean.x(), mean.y());
                  return a.dot(covariance * a) + errors.uneven;
                },
                true};
}

/// Heights of triangles at the middles of cells, over a rim's box and a cell around; the rim's nearest height beyond
/// them.
class Triangles {
 public:
  Triangles(const Grid& grid, const std::vector<RimPoint>& rim) : grid_(grid), rim_(rim) {
    Eigen::AlignedBox2d box;
    for (const RimPoint& p : rim) box.extend(p.at), at_[key(p.at)] = p.z;
    west_ = grid.column(box.min().x()) - 2, north_ = grid.row(box.max().y()) - 2;
    width_ = grid.column(box.max().x()) + 3 - west_, height_ = grid.row(box.min().y()) + 3 - north_;
    z_.assign(static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_), nan);
  }
  void add(const OGRLinearRing& ring) {
    Eigen::Vector3d corner[3];
    for (int i = 0; i < 3; ++i) {
      const Eigen::Vector2d at(ring.getX(i), ring.getY(i));
      const auto known = at_.find(key(at));  // GEOS drops heights: the rim's point of that place has it
      if (known == at_.end()) return;
      corner[i] = {at.x(), at.y(), known->second};
    }
    Eigen::Matrix2d sides;
    sides.col(0) = (corner[1] - corner[0]).head<2>(), sides.col(1) = (corner[2] - corner[0]).head<2>();
    if (!(std::abs(sides.determinant()) > 1e-12)) return;
    const Eigen::Matrix2d inverse = sides.inverse();
    for (const Eigen::Vector3d& c : corner) share_[key(c.head<2>())] += std::abs(sides.determinant());
    Eigen::AlignedBox2d box;
    for (const Eigen::Vector3d& c : corner) box.extend(Eigen::Vector2d(c.head<2>()));
    for (int row = grid_.row(box.max().y()); row <= grid_.row(box.min().y()); ++row)
      for (int col = grid_.column(box.min().x()); col <= grid_.column(box.max().x()); ++col) {
        const Eigen::Vector2d t = inverse * (grid_.middle(col, row) - corner[0].head<2>());
        if (t.minCoeff() < -1e-9 || t.sum() > 1 + 1e-9) continue;
        z_[index(col, row)] =
            corner[0].z() + t[0] * (corner[1].z() - corner[0].z()) + t[1] * (corner[2].z() - corner[0].z());
      }
  }
  /// Variance of the mean height, in that of a rim point, where the errors of `together` neighbouring ones are one:
  /// large where few points span the middle.
  double concentration(int together) const {
    std::vector<double> share;
    double sum = 0, squares = 0;
    for (const RimPoint& p : rim_) {
      const auto found = share_.find(key(p.at));
      share.push_back(found == share_.end() ? 0.0 : found->second), sum += share.back();
    }
    const auto n = static_cast<int>(share.size());
    for (int i = 0; i < n; ++i)
      for (int k = -together / 2; k <= together / 2; ++k)
        squares += share[static_cast<std::size_t>(i)] * share[static_cast<std::size_t>(((i + k) % n + n) % n)];
    return sum > 0 ? squares / (sum * sum) : 1;
  }
  double at(const Eigen::Vector2d& place) const {
    const int col = grid_.column(place.x()), row = grid_.row(place.y());
    if (col >= west_ && row >= north_ && col < west_ + width_ && row < north_ + height_)
      if (const double z = z_[index(col, row)]; std::isfinite(z)) return z;
    return std::min_element(rim_.begin(), rim_.end(),
                            [&](const RimPoint& p, const RimPoint& q) {
                              return (p.at - place).squaredNorm() < (q.at - place).squaredNorm();
                            })
        ->z;
  }

 private:
  Grid grid_;
  std::vector<RimPoint> rim_;
  std::map<std::pair<double, double>, double> at_, share_;
  int west_ = 0, north_ = 0, width_ = 0, height_ = 0;
  std::vector<double> z_;
  static std::pair<double, double> key(const Eigen::Vector2d& at) { return {at.x(), at.y()}; }
  std::size_t index(int col, int row) const {
    return static_cast<std::size_t>(row - north_) * static_cast<std::size_t>(width_) +
           static_cast<std::size_t>(col - west_);
  }
};

std::optional<Ground> rim_triangles(const Grid& grid, const std::vector<RimPoint>& rim, double alike) {
  if (rim.size() < least_rim) return std::nullopt;
  OGRMultiPoint points;
  for (const RimPoint& p : rim) {
    OGRPoint point(p.at.x(), p.at.y());
    points.addGeometry(&point);
  }
  const Geometry found(points.DelaunayTriangulation(0, FALSE));
  if (!found || wkbFlatten(found->getGeometryType()) != wkbGeometryCollection) return std::nullopt;
  const auto triangles = std::make_shared<Triangles>(grid, rim);
  for (const auto* part : found->toGeometryCollection()) triangles->add(*part->toPolygon()->getExteriorRing());
  // The few points that span the middle count for most of it, with what is alike about each.
  const RimErrors errors = errors_of(rim, fit_plane(rim));
  const int together = std::max(1, static_cast<int>(std::lround(std::sqrt(alike))));
  const double variance = errors.noise * triangles->concentration(together) + errors.uneven;
  return Ground{[=](const Eigen::Vector2d& at) { return triangles->at(at); },
                [=](double, const Eigen::Vector2d&) { return variance; }, true};
}

std::optional<Ground> base_of(const Grid& grid, const std::vector<RimPoint>& rim, Base base,
                              const VolumeOptions& options) {
  switch (base) {
    case Base::rim_plane:
      return rim_plane(rim, options.alike);
    case Base::rim_triangles:
      return rim_triangles(grid, rim, options.alike);
    case Base::rim_lowest: {
      if (rim.size() < least_rim) return std::nullopt;
      const auto lowest =
          *std::min_element(rim.begin(), rim.end(), [](const RimPoint& a, const RimPoint& b) { return a.z < b.z; });
      return Ground{[z = lowest.z](const Eigen::Vector2d&) { return z; },
                    [v = lowest.sigma * lowest.sigma](double, const Eigen::Vector2d&) { return v; }, true};
    }
    case Base::height:
      return Ground{[z = options.height](const Eigen::Vector2d&) { return z; },
                    [](double, const Eigen::Vector2d&) { return 0.0; }, false};
    case Base::surface: {
      if (!options.other) return std::nullopt;

      return Ground{[other = options.other](const Eigen::Vector2d& at) { return other->height(at); },
                    [other = options.other, alike = options.alike](double area, const Eigen::Vector2d& moment) {
                      const Eigen::Vector2d at = moment / area;
                      const int col = other->grid.column(at.x()), row = other->grid.row(at.y());
                      const float sigma = other->grid.inside(col, row) ? other->sigma[other->grid.at(col, row)] : 0.0f;
                      return std::isfinite(sigma) ? sigma * sigma * std::min(1.0, alike / area) : 0.0;
                    },
                    false};
    }
  }
  return std::nullopt;
}

/// A cell and its share within a polygon: of 16 places in it, by the even-odd rule.
struct Cell {
  int col, row;
  double share;
};

std::vector<Cell> cells_in(const Grid& grid, const std::vector<cloud::Polygon>& polygons) {
  constexpr int places = 4;
  std::map<std::pair<int, int>, int> counts;  // by row, column
  for (const cloud::Polygon& polygon : polygons) {
    const Eigen::AlignedBox2d box = polygon.box();
    const int r0 = std::max(0, grid.row(box.max().y())), r1 = std::min(grid.rows - 1, grid.row(box.min().y()));
    for (int line = places * r0; line < places * (r1 + 1); ++line) {
      // Where the outline crosses a line of places: between every other pair of crossings one is inside.
      const double y = grid.north - (line + 0.5) / places * grid.cell;
      std::vector<double> crossings;
      for (const auto& ring : polygon.rings)
        for (std::size_t k = 0, l = ring.size() - 1; k < ring.size(); l = k++) {
          const Eigen::Vector2d &a = ring[k], &b = ring[l];
          if ((a.y() > y) != (b.y() > y)) crossings.push_back((b.x() - a.x()) * (y - a.y()) / (b.y() - a.y()) + a.x());
        }
      std::sort(crossings.begin(), crossings.end());
      for (std::size_t k = 0; k + 1 < crossings.size(); k += 2) {
        const auto place = [&](double x) {
          return static_cast<int>(std::ceil((x - grid.west) / grid.cell * places - 0.5));
        };
        const int first = std::max(0, place(crossings[k])),
                  last = std::min(places * grid.columns, place(crossings[k + 1]));
        for (int at = first; at < last; ++at) ++counts[{line / places, at / places}];
      }
    }
  }
  std::vector<Cell> out;
  for (const auto& [at, count] : counts)
    out.push_back({at.second, at.first, std::min(1.0, count / static_cast<double>(places * places))});
  return out;
}

double net_of(const Surface& s, const std::vector<Cell>& cells, const Ground& ground) {
  double sum = 0;
  for (const Cell& c : cells) {
    const double dz = s.z[s.grid.at(c.col, c.row)] - ground.height(s.grid.middle(c.col, c.row));
    if (std::isfinite(dz)) sum += c.share * dz;
  }
  return sum * s.grid.cell * s.grid.cell;
}

/// An outline with its cells, and those where it lies a cell farther out and in.
struct Outlined {
  std::vector<RimPoint> rim;
  double perimeter = 0;
  std::vector<Cell> cells, wider, narrower;
};

}  // namespace

std::vector<cloud::Polygon> moved_out(const cloud::Polygon& polygon, double distance) {
  const Geometry moved(ogr_of(polygon)->Buffer(distance, 8));
  return from_ogr(moved.get(), polygon.name);
}

cloud::Polygon valid(const cloud::Polygon& polygon, bool& crossed) {
  const Geometry own = ogr_of(polygon);
  crossed = own->IsValid() == FALSE;
  if (!crossed) return polygon;
  const Geometry made(own->MakeValid(nullptr));
  cloud::Polygon out{polygon.name, {}};
  for (cloud::Polygon& part : from_ogr(made.get(), polygon.name))
    for (auto& ring : part.rings) out.rings.push_back(std::move(ring));
  return out.rings.empty() ? polygon : out;
}

namespace {

double surface_share(const Surface& s, int col, int row) {
  const auto z = [&](int c, int r) { return s.grid.inside(c, r) ? static_cast<double>(s.z[s.grid.at(c, r)]) : nan; };
  const double east = 0.5 * (z(col + 1, row) - z(col - 1, row)) / s.grid.cell,
               north = 0.5 * (z(col, row - 1) - z(col, row + 1)) / s.grid.cell;
  return std::isfinite(east + north) ? std::sqrt(1 + east * east + north * north) : 1.0;
}

std::optional<Volume> volume_over(const Surface& surface, const Outlined& outlined, Base base,
                                  const VolumeOptions& options) {
  const std::optional<Ground> ground = base_of(surface.grid, outlined.rim, base, options);
  if (!ground) return std::nullopt;
  Volume out;
  out.base = base, out.perimeter = outlined.perimeter, out.highest = -INFINITY;
  const double cell2 = surface.grid.cell * surface.grid.cell;
  double weight = 0, missing = 0, filled = 0, noise = 0, filled_sigma = 0;
  Eigen::Vector2d moment = Eigen::Vector2d::Zero();
  for (const Cell& c : outlined.cells) {
    const std::size_t i = surface.grid.at(c.col, c.row);
    const Eigen::Vector2d at = surface.grid.middle(c.col, c.row);
    const double dz = surface.z[i] - ground->height(at);
    if (!std::isfinite(dz)) {
      missing += c.share;
      continue;
    }
    (dz > 0 ? out.fill : out.cut) += c.share * std::abs(dz) * cell2;
    weight += c.share, moment += c.share * at;
    out.highest = std::max(out.highest, dz);
    out.surface_area += c.share * cell2 * surface_share(surface, c.col, c.row);
    const double sigma = std::isfinite(surface.sigma[i]) ? surface.sigma[i] : 0.0;
    const double own = std::sqrt(std::max(0.0, sigma * sigma - options.block * options.block));
    if (surface.source[i] == Source::filled)
      filled += c.share, filled_sigma += c.share * own;
    else
      noise += c.share * c.share * own * own;
  }
  if (weight == 0) return std::nullopt;
  out.net = out.fill - out.cut, out.area = weight * cell2;
  out.filled_share = filled / weight, out.missing_share = missing / (weight + missing);
  out.of_noise = cell2 * std::sqrt(options.alike * noise);
  out.of_filled = cell2 * filled_sigma;
  out.of_base = out.area * std::sqrt(std::max(0.0, ground->variance(weight, moment)));
  out.of_block = std::hypot(ground->own ? 0.0 : out.area * options.block, 3 * options.scale * (out.fill + out.cut));
  out.sigma = std::sqrt(std::pow(out.of_noise, 2) + std::pow(out.of_filled, 2) + std::pow(out.of_base, 2) +
                        std::pow(out.of_block, 2));
  out.toe = 0.5 * (net_of(surface, outlined.wider, *ground) - net_of(surface, outlined.narrower, *ground));
  return out;
}

}  // namespace

std::vector<Volume> volumes_of(const Surface& surface, const cloud::Polygon& polygon, const std::vector<Base>& bases,
                               const VolumeOptions& options) {
  Outlined outlined;
  outlined.rim = rim_of(surface, polygon, outlined.perimeter);
  outlined.cells = cells_in(surface.grid, {polygon});
  outlined.wider = cells_in(surface.grid, moved_out(polygon, surface.grid.cell));
  outlined.narrower = cells_in(surface.grid, moved_out(polygon, -surface.grid.cell));
  std::vector<Volume> out;
  for (const Base base : bases)
    if (const auto volume = volume_over(surface, outlined, base, options)) out.push_back(*volume);
  return out;
}

}  // namespace mesograph::surface
