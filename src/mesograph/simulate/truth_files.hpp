#pragma once

#include <mesograph/geo/frame.hpp>
#include <mesograph/simulate/flight.hpp>
#include <string>
#include <vector>

namespace mesograph::simulate {

inline constexpr const char* crs_code = "EPSG:25833+5773";

/// East, north, height of the origin of the site frame.
Eigen::Vector3d site_origin();

/// The site frame in the CRS of made-up surveys, and what is written in it. Accuracy: lengths to 0.01 mm, angles to
/// 1e-8 degrees, as written. Cost: some microseconds a point.
struct TruthFiles {
  geo::Crs crs = geo::resolve({crs_code, "", ""});
  geo::Frame frame{crs, site_origin()};

  /// "east,north,height" of a point of the site frame.
  std::string crs_fields(const Eigen::Vector3d& X) const;
  /// stations.csv with omega, phi, kappa against the grid.
  std::string stations_text(const std::vector<TrueStation>& stations, const std::vector<TrueCamera>& cameras) const;
};

/// cameras.json as it is.
std::string true_cameras_text(const std::vector<TrueCamera>& cameras);
/// cameras.json as somebody who knows the lens by its label writes it: c too large by `factor`, no distortion.
std::string nominal_cameras_text(const std::vector<TrueCamera>& cameras, double factor);

/// Of the target with a number: eight are control, the others checks.
std::string target_name(std::size_t i);

/// survey.toml of a made-up survey, which names the cameras with rolling shutters as admit names them.
std::string survey_toml(const std::vector<TrueCamera>& cameras);

}  // namespace mesograph::simulate
