#pragma once

#include <mesograph/geo/frame.hpp>
#include <mesograph/report/adjustment.hpp>
#include <string>
#include <utility>
#include <vector>

namespace mesograph::report {

/// What the client asks for; NaN: nothing. [tolerance] of survey.toml.
struct Tolerances {
  double check_rmse_h = nan, check_rmse_v = nan;  ///< m, at most
  double image_rms_px = nan;                      ///< at most
  double oriented_share = nan;                    ///< at least

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("check_rmse_h", s.check_rmse_h), visit("check_rmse_v", s.check_rmse_v);
    visit("image_rms_px", s.image_rms_px), visit("oriented_share", s.oriented_share);
  }
};

/// An adjustment that is kept beside the one that stands (adjust --as).
struct KeptAdjustment {
  AdjustmentSummary summary;
  std::vector<std::string> images;      ///< oriented
  std::vector<Eigen::Vector3d> places;  ///< of their stations, in the CRS

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("summary", s.summary), visit("images", s.images), visit("places", s.places);
  }
};

/// Everything that a report on an adjustment is made from, as plain values. It computes nothing but places in metres
/// (exact to rounding): accuracy and cost are those of the stages that fill it.
struct Material {
  struct Photo {
    std::string image, sortie;
    std::string left_out;  ///< why it takes no part; empty: it does
  };
  struct Change {
    std::string point, change, when, before;
  };
  struct GuessedCamera {
    std::string name;
    double c = nan;  ///< pixels, from which the adjustment started
  };

  Material(const geo::Crs& crs_of, adjust::NamedBlock block, adjust::Uncertainty predicted)
      : crs(crs_of), named(std::move(block)), frame(crs_of, named.origin), uncertainty(std::move(predicted)) {}

  std::string title;
  geo::Crs crs;
  adjust::NamedBlock named;
  geo::Frame frame;
  adjust::Uncertainty uncertainty;  ///< of what was adjusted
  AdjustmentSummary summary;
  std::vector<PointResult> points;
  std::vector<Photo> photos;  ///< all that were admitted
  std::vector<GuessedCamera> guessed;
  Tolerances tolerance;
  std::vector<Change> changes;  ///< of control, after an adjustment had shown what it does
  std::vector<std::pair<std::string, std::string>> settings, inputs, times, mosaic;  ///< rows of tables
  std::string compared_with;                                                         ///< name of `other`
  std::optional<KeptAdjustment> other;

  /// Metres east and north, whatever the CRS counts.
  Eigen::Vector2d plan(const Eigen::Vector3d& X) const { return metric(frame.crs_from_local(X)); }
  Eigen::Vector2d metric(const Eigen::Vector3d& place) const { return crs.metric_from(place).head<2>(); }
};

}  // namespace mesograph::report
