#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/survey.hpp>
#include <vector>

namespace mesograph::stages {

/// How sightings say that they came from another survey.
inline constexpr const char* carried_origin = "carried";

/// What a survey keeps of carried points beside their rows of control.csv.
struct CarriedParts {
  std::vector<sight::Sighting> sightings;  ///< with all others
  std::vector<survey::JointRow> joint;
};

/// Natural points of an earlier survey as control of this one.
struct Carried {
  std::string prefix;  ///< of their ids: the earlier survey's name and "-"
  std::vector<survey::ControlRow> rows;
  CarriedParts parts;
  int matched = 0, stable = 0;                ///< points that both surveys have, and of them those that stand
  double spread_plan = 0, spread_height = 0;  ///< m an axis, of what is left between the stable ones
};

struct CarryOptions {
  int points = 60;             ///< most that are carried, well spread; each adds three rows to the adjustment's border
  int partners = 3;            ///< photos of the earlier survey that each photo is matched with
  double least_angle_deg = 5;  ///< between rays, in both surveys: below it heights are weak
};

/// Well-determined natural points of ground that has not moved, from an adjusted survey in the same CRS: tie points of
/// both, matched by the keypoints that both surveys keep, told from what moved (orient::stable_points), with the joint
/// covariance of the earlier adjustment and what the match itself adds. Nothing is written. Throws Error where either
/// survey is not far enough, their CRSs differ, or fewer than 30 points are stable.
/// Accuracy: that of the earlier survey; the match adds some tenths of a pixel a point. Cost: 0.03 s a pair of photos,
/// three pairs a photo.
Carried carry_control(const survey::Survey& survey, const std::filesystem::path& earlier, const CarryOptions& options,
                      Progress& progress);

/// Puts them in the place of those that the same survey gave before. Throws Error where a point of other origin has
/// one of their names.
void take_carried(const Carried& carried, std::vector<survey::ControlRow>& rows, CarriedParts& parts);
/// What belongs to carried points that are control no more goes with them.
void drop_orphans(const std::vector<survey::ControlRow>& rows, CarriedParts& parts);

}  // namespace mesograph::stages
