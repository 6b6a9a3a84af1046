#pragma once

#include <map>
#include <mesograph/survey/photo_table.hpp>
#include <optional>

namespace mesograph::survey {

/// Names of columns as a file has them, by the names that we know them under: {"image", "Photo"}.
using ColumnNames = std::map<std::string, std::string>;

/// Start values of a listing that was admitted; nothing where there is none.
struct Listing {
  struct Row {
    std::string image, sortie, camera;
    Eigen::Vector3d position;  ///< survey CRS; NaN: unknown
    bool yaw_pitch_roll = false;
    /// omega, phi, kappa, or yaw, pitch, roll of a gimbal; NaN: only the position is known
    Eigen::Vector3d angles_deg = Eigen::Vector3d::Constant(nan);
    double sigma_h = nan, sigma_v = nan;  ///< m; where set, the position is an observation
    double sigma_angle = nan;             ///< degrees per axis; where set, the attitude is one
    /// While a rolling shutter read it: m/s along the CRS's axes and up; degrees/s about the camera's axes. NaN:
    /// unknown.
    Eigen::Vector3d velocity = Eigen::Vector3d::Constant(nan), turning_deg = Eigen::Vector3d::Constant(nan);
    bool fixed = false;  ///< held in every adjustment
  };
  std::vector<Row> rows;
  std::map<std::string, camera::Camera> cameras;  ///< by name; those that the rows name are among them
};
std::optional<Listing> load_listing(const Survey& survey);

/// Reads a listing and its cameras as people give them. Throws Error where a column is missing, a number is none, a
/// sigma is below the least, a row names a camera that cameras.json has not, a photo comes twice, all positions are
/// one, or angles are beyond a full turn.
Listing check_listing(const std::filesystem::path& listing, const std::filesystem::path& cameras, bool fixed,
                      const ColumnNames& columns);
/// Keeps both in inputs/, columns under our names.
void keep_listing(const Survey& survey, const Listing& listing);

/// Checks processed positions and keeps them in inputs/positions.csv, as WGS 84. Columns: image or time; longitude,
/// latitude, height or east, north, height; sigma_h and sigma_v at will. `crs`: what they are in; empty: WGS 84 where
/// the columns are longitude and latitude, else the survey's.
void keep_positions(const Survey& survey, const std::filesystem::path& file, const std::string& crs,
                    const ColumnNames& columns);

struct PositionsUsed {
  std::size_t rows = 0, by_image = 0, by_time = 0;
};
/// Sets the position and sigma of every photo: from inputs/positions.csv, by image or by time within 0.1 s, else from
/// its metadata, brought to WGS 84 and above the ellipsoid by what survey.toml says of its sortie.
PositionsUsed place_photos(const Survey& survey, std::vector<Photo>& photos);

/// Photos whose row in the listing states a sigma, or no angles: their listed position is an observation, instead of
/// any other.
void place_listed(const Survey& survey, const Listing& listing, std::vector<Photo>& photos);

/// Seconds of "2026:06:14 10:02:33.25" or "2026-06-14T10:02:33.25Z" since some day; NaN where it is no time.
double seconds_of(const std::string& time);

}  // namespace mesograph::survey
