#pragma once

#include <mesograph/dense/census.hpp>
#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/warp.hpp>
#include <vector>

namespace mesograph::dense {

/// How many of m partners count: the better half, for something hides a place from some.
inline int better_half_of(int m) { return m <= 2 ? m : (m + 1) / 2; }

/// How much what other photos show differs from what one shows in a tile, if the ground were a given plane: windows are
/// taken from what they show of it, so that they lie on it, however it slopes.
class PlaneSweep {
 public:
  static constexpr std::uint8_t empty = Census::empty;  ///< where no partner sees the place

  PlaneSweep(const View& reference, const Views& partners, const Tile& tile, int least_difference);

  /// Mean of the better half of the partners' costs, of those that see the place.
  void costs(const InversePlane& plane, Bytes& out);

 private:
  const Views& partners_;
  Warp warp_;
  Census census_;
  photo::Grey warped_;
  std::vector<Bytes> of_partner_;
};

/// How well other photos correlate with one in a tile, if the ground were a given surface.
class SurfaceSweep {
 public:
  /// Scores where the partner does not see the place, or its window is too flat.
  static constexpr float empty = Correlator::empty;

  SurfaceSweep(const View& reference, const Views& partners, const Tile& tile, int window, double least_contrast);

  /// `w`: inverse depths, 1/m, all finite, of the tile's size.
  void correlate(const photo::Raster<float>& w, std::vector<photo::Raster<float>>& scores);

 private:
  const Views& partners_;
  Warp warp_;
  photo::Grey image_, warped_;
  Correlator correlator_;
};

/// Mean of the better half of several costs at each pixel; `PlaneSweep::empty` where there is none, and in these.
/// Leaves `costs` in another order.
void better_half(std::vector<Bytes>& costs, Bytes& out);

}  // namespace mesograph::dense
