#pragma once

#include <filesystem>
#include <mesograph/adjust/block.hpp>
#include <mesograph/geo/crs.hpp>
#include <mesograph/sight/sighting.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::survey {

/// A photo file or folder that was admitted, under its sortie.
struct Source {
  std::string sortie;
  std::filesystem::path path;  ///< absolute
};
std::vector<Source> read_sources(const std::filesystem::path& inputs);
void write_sources(const std::filesystem::path& inputs, const std::vector<Source>& sources);

/// A row of control.csv, in the survey CRS. NaN: not surveyed, no own sigma.
struct ControlRow {
  std::string id;
  double east = nan, north = nan, height = nan;
  adjust::Role role = adjust::Role::control;
  double sigma_h = nan, sigma_v = nan;  ///< m, plan per axis and height
  double sigma_e = nan, sigma_n = nan;  ///< m, where east and north are not known alike; before sigma_h
};
/// Reads a control file: columns id,east,north,height[,role,sigma_h,sigma_v,sigma_e,sigma_n]. Throws Error naming file
/// and line where a column is missing, a number is none, a sigma is below the least (base/sigma), an id is empty or
/// comes twice, or a role is unknown.
/// Exact: numbers as written. Cost: the file in memory.
std::vector<ControlRow> read_control(const std::filesystem::path& path);
/// The survey's own control; empty where there is none yet.
std::vector<ControlRow> stored_control(const std::filesystem::path& inputs);
std::string control_text(const std::vector<ControlRow>& rows, const geo::Crs& crs);

/// A row of control_joint.csv: how the errors of two carried points go together, along east, north and height of the
/// one (rows) and the other (columns): correlations.
struct JointRow {
  std::string a, b;
  Eigen::Matrix3d correlation = Eigen::Matrix3d::Zero();
};
/// Of the points that `control --from` carried; pairs that are missing have nothing in common. Throws Error where a
/// number is no correlation.
/// Exact: to 9 decimals. Cost: the file, which grows with the square of the points.
std::vector<JointRow> stored_joint(const std::filesystem::path& inputs);
std::string joint_text(const std::vector<JointRow>& rows);

/// A row of scalebars.csv: a measured distance in space between two points that are sighted.
struct ScaleBarRow {
  std::string id, a, b;
  double length = nan, sigma = nan;  ///< m
};
/// Reads a file of scale bars: columns id,a,b,length,sigma. Throws Error naming file and line where an id comes twice,
/// both ends are the same, or a length or sigma is not greater than 0.
std::vector<ScaleBarRow> read_scale_bars(const std::filesystem::path& path);
/// The survey's own scale bars; empty where there are none.
std::vector<ScaleBarRow> stored_scale_bars(const std::filesystem::path& inputs);
std::string scale_bars_text(const std::vector<ScaleBarRow>& rows);

/// Reads a sightings file: columns image,point,x,y[,sigma,state,origin]; no state column means confirmed.
std::vector<sight::Sighting> read_sightings(const std::filesystem::path& path);
/// Sightings that take part: those of people, and where asked those of the finder (store/found.csv), of which people
/// have said nothing.
std::vector<sight::Sighting> merged_sightings(const std::filesystem::path& by_people,
                                              const std::filesystem::path& found);
std::string sightings_text(const std::vector<sight::Sighting>& rows);

/// A decision about a photo by hand: decisions.csv.
struct Decision {
  std::string image, decision;  ///< "keep" or "drop"
  std::string time, why;
};
std::vector<Decision> read_decisions(const std::filesystem::path& inputs);
/// Adds decisions at the end; one that the last of the same subject says already is not noted again.
void add_decisions(const std::filesystem::path& inputs, const std::vector<Decision>& more);

/// Observations that decisions leave out: those of "without" that no later "with" has taken back, in order.
std::vector<std::string> standing_without(const std::filesystem::path& inputs);
/// Names of observations as people write them: names, or a CSV file with a column `item` (a residuals export, cut to
/// what shall go).
std::vector<std::string> items_from(const std::vector<std::string>& words);
/// Keeps decisions on observations: "without" or "with".
void keep_items(const std::filesystem::path& inputs, const std::vector<std::string>& items, const char* decision);

/// Local date and time as inputs/ note it, "2026-06-14 10:02:33".
std::string time_now();

}  // namespace mesograph::survey
