#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/orient/options.hpp>
#include <mesograph/orient/resection.hpp>
#include <optional>

namespace mesograph::orient {

/// What became of the search for two photos to begin with.
enum class StartStatus {
  not_run,
  started,         ///< two photos are oriented
  too_few_shared,  ///< no two photos share so many tie points that one relative orientation explains (least_start_ties)
  too_narrow,      ///< of those that do, no pair's rays meet at OrientOptions::min_start_angle_deg
  falls_apart,     ///< of the rest, no pair keeps enough of its points when it is adjusted
};

/// Why a block grew no further.
enum class GrowthEnd {
  not_run,
  all_oriented,
  none_fits,  ///< photos are left; Growth::reason says of each why
};

/// A resection asks for 15 points, and the next photo sees a third of those that a pair has.
inline constexpr int least_start_ties = 50;

/// A block that grows photo by photo in a frame of its own: first station at the origin, first base of length 1.
/// Cost: per photo a resection and an adjustment of its neighbourhood; of the whole at every growth by a quarter.
/// Accuracy: that of an adjustment without control; only start values for the last one.
class Growth {
 public:
  Growth(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options, Progress& progress);

  /// Orients the best start pair.
  StartStatus start();
  /// Takes the stations that are oriented already, all of them held, as they are.
  void start_from_held();
  /// Adds photos until none fits any more. One that loses its support on the way is taken out and tried again, once.
  GrowthEnd grow();
  int oriented() const { return oriented_; }
  /// Why a station was left out.
  std::string reason(int station) const;

 private:
  struct Seen {
    int point, ray;
  };
  struct Candidate {
    int station = -1, cells = 0, points = 0;
  };
  std::vector<std::pair<int, int>> start_candidates() const;
  bool try_pair(int a, int b);
  Candidate candidate(int station) const;
  Candidate next_photo();
  /// Of the photo's camera; while no photo of it stands and its start value is a guess, the one that most rays agree
  /// on.
  double principal_distance(const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, int station,
                            ResectionOptions options) const;
  bool add(int station);
  void intersect_new(int station);
  /// Its points have changed: photos that see them are counted anew before the next one is chosen.
  void points_changed(int station);
  /// In the block's own frame: without positions and control, robust.
  void adjust_free(adjust::Scope scope, int iterations, double tolerance);
  void adjust_around(int station);
  void adjust_all();
  void take_out_unsupported();
  bool camera_is_known(int camera) const;

  adjust::Block& block_;
  const std::vector<std::string>& names_;
  OrientOptions options_;
  Progress& progress_;
  std::vector<std::vector<Seen>> seen_;  ///< per station
  std::vector<int> failed_at_;           ///< size of the block at the last failure; -1: not tried
  std::vector<int> taken_out_;           ///< how often
  std::vector<Candidate> candidates_;    ///< as counted last
  std::vector<char> stale_;              ///< to be counted anew
  int oriented_ = 0, adjusted_at_ = 0, first_ = -1;
};

}  // namespace mesograph::orient
