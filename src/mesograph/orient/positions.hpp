#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/numbers.hpp>
#include <vector>

namespace mesograph::orient {

struct WrongPosition {
  int station = -1;
  double off = nan;  ///< from where the block puts the photo, its sortie's offset taken out, m
};

/// What the oriented block says of the observed positions.
/// Cost: linear in stations, some rounds.
struct PositionsJudged {
  std::vector<Eigen::Vector3d> offset;  ///< of each sortie: median of position - station; NaN: no positions
  double median_off = nan;              ///< of all positions from their stations, offsets taken out, m
  double extent = nan;                  ///< median distance of the positions from their middle, m
  std::vector<WrongPosition> wrong;     ///< beyond eight times the median and five sigma
};

/// Compares the positions with the stations of a block that stands on them already by a robust similarity.
/// Accuracy: medians, so that two in five positions may be wrong.
PositionsJudged judge_positions(const adjust::Block& block);

}  // namespace mesograph::orient
