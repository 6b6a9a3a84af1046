#pragma once

#include <Eigen/Core>
#include <array>
#include <memory>
#include <mesograph/geo/crs.hpp>
#include <string>
#include <vector>

namespace mesograph::geo {

/// The bridge between the survey CRS (files) and the local frame (all computing).
///
/// Local frame: topocentric, right-handed, m: x east, y north, z along the ellipsoid normal at the origin. The chain is
/// CRS -> geographic -> geocentric -> topocentric in the survey's own datum, heights as h = H + N; there and back
/// within 0.1 mm. For a `local` CRS the two are the same, and WGS 84 positions become topocentric about the origin's
/// longitude and latitude: good for neighbourhoods and start values only. Points are columns or vectors (east, north,
/// height) in the CRS's unit, (x, y, z) in m. Not for use by two threads at once. Throws Error where a point lies
/// outside the domain of the projection or of the geoid grid.
/// Cost: some microseconds a point.
class Frame {
 public:
  /// `origin`: east, north, height in the CRS; for a `local` CRS: longitude, latitude (degrees), ellipsoidal height.
  Frame(const Crs& crs, const Eigen::Vector3d& origin);
  ~Frame();
  Frame(Frame&&) noexcept;

  const Eigen::Vector3d& origin() const { return origin_; }
  Eigen::Vector3d local_from_crs(const Eigen::Vector3d& point) const;
  Eigen::Vector3d crs_from_local(const Eigen::Vector3d& X) const;
  /// Of many points, by quadratic interpolation between 18 of their box's: good to 0.1 mm where that is a kilometre
  /// wide, and fifty times as fast.
  std::vector<Eigen::Vector3d> crs_from_local(const std::vector<Eigen::Vector3d>& X) const;
  /// Longitude, latitude in degrees and height above the ellipsoid (WGS 84, EPSG:4979).
  Eigen::Vector3d local_from_wgs84(const Eigen::Vector3d& lon_lat_h) const;
  /// Rotation local_from_grid at a place: columns are the grid's east, north and up there (science: angles in files).
  Eigen::Matrix3d local_from_grid(const Eigen::Vector3d& X) const;
  /// Rotation local_from_enu at a place: columns are true east, true north and the ellipsoid's normal there.
  Eigen::Matrix3d local_from_enu(const Eigen::Vector3d& X) const;

 private:
  struct Operations;
  Crs crs_;
  Eigen::Vector3d origin_;
  std::unique_ptr<Operations> operations_;
};

/// A smooth way from one system of coordinates to another over a box, by quadratic interpolation between 18 of its
/// places (linear in the third): good to 0.1 mm between a frame and its grid where the box is a kilometre wide, fifty
/// times as fast as asking, and, unlike that, for all threads.
class WayOverBox {
 public:
  template <typename Way>
  WayOverBox(const Eigen::Vector3d& low, const Eigen::Vector3d& high, const Way& way)
      : middle_(0.5 * (low + high)), half_((0.5 * (high - low)).cwiseMax(1.0)) {
    for (int i = 0; i < 18; ++i)
      node_[static_cast<std::size_t>(i)] = way(
          Eigen::Vector3d(middle_ + half_.cwiseProduct(Eigen::Vector3d(i / 6 - 1, i / 2 % 3 - 1, 2 * (i % 2) - 1))));
  }
  Eigen::Vector3d operator()(const Eigen::Vector3d& p) const {
    const Eigen::Vector3d at = (p - middle_).cwiseQuotient(half_);  // -1 to 1
    // Lagrange's polynomials over -1, 0, 1, and over -1, 1.
    const auto three = [](double t) { return Eigen::Vector3d(0.5 * t * (t - 1), 1 - t * t, 0.5 * t * (t + 1)); };
    const Eigen::Vector3d x = three(at.x()), y = three(at.y());
    const double low = 0.5 * (1 - at.z()), high = 0.5 * (1 + at.z());
    Eigen::Vector3d sum = Eigen::Vector3d::Zero();
    std::size_t k = 0;
    for (int i = 0; i < 3; ++i)
      for (int j = 0; j < 3; ++j, k += 2) sum += x[i] * y[j] * (low * node_[k] + high * node_[k + 1]);
    return sum;
  }

 private:
  Eigen::Vector3d middle_, half_;
  std::array<Eigen::Vector3d, 18> node_;
};

/// How WGS 84 positions reach the datum of a CRS.
struct DatumShift {
  std::string name;       ///< name of the operation in the register
  double accuracy = 0.0;  ///< m; negative where the register states none
};

/// The operation that takes WGS 84 positions to the datum of a CRS.
DatumShift datum_shift_of(const Crs& crs);

/// WGS 84 longitude, latitude (degrees) and ellipsoidal height of points in any CRS: (longitude, latitude, height)
/// where it is geographic, (east, north, height) where it is projected; without a vertical part heights are
/// ellipsoidal. Throws Error where the CRS is unknown or no operation leads from it.
std::vector<Eigen::Vector3d> wgs84_from(const std::string& crs, const std::vector<Eigen::Vector3d>& points);
std::vector<Eigen::Vector3d> wgs84_from(const Crs& crs, const std::vector<Eigen::Vector3d>& points);

/// Points of any CRS in the survey's: (longitude, latitude, height) where it is geographic, (X, Y, Z) where it is
/// geocentric, (east, north, height) where it is projected; heights of a CRS without a vertical part are ellipsoidal.
/// Between two datums the operation of best stated accuracy is taken, and told; within one there is none, and the way
/// is exact. Throws Error where the CRS is unknown, or no operation leads from it.
std::vector<Eigen::Vector3d> crs_from(const std::string& from, const Crs& to,
                                      const std::vector<Eigen::Vector3d>& points, DatumShift* shift = nullptr);

/// Height of the geoid above the ellipsoid at a WGS 84 place, by the grid of the survey's vertical CRS; 0 where it has
/// none.
double geoid_height(const Crs& crs, double lon_deg, double lat_deg);

/// Coordinates in a CRS from WGS 84 longitude, latitude (degrees) and ellipsoidal height, with the operation taken.
Eigen::Vector3d crs_from_wgs84(const Crs& crs, const Eigen::Vector3d& lon_lat_h, DatumShift* shift = nullptr);

/// WGS 84 longitude, latitude (degrees) and ellipsoidal height from coordinates in a CRS; inverse of crs_from_wgs84.
Eigen::Vector3d wgs84_from_crs(const Crs& crs, const Eigen::Vector3d& point);

}  // namespace mesograph::geo
