#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/positions.hpp>

namespace mesograph::orient {

namespace {

bool is_observed(const adjust::Station& s) { return s.oriented && s.position.allFinite(); }

}  // namespace

PositionsJudged judge_positions(const adjust::Block& block) {
  PositionsJudged out;
  out.offset.assign(block.sorties.size(), Eigen::Vector3d::Constant(nan));
  for (std::size_t sortie = 0; sortie < block.sorties.size(); ++sortie)
    for (int axis = 0; axis < 3; ++axis) {
      std::vector<double> all;
      for (const adjust::Station& s : block.stations)
        // Medians: a satellite receiver that lost its fix for a minute must not move the others' reference.
        if (is_observed(s) && s.sortie == static_cast<int>(sortie)) all.push_back((s.position - s.C)[axis]);
      out.offset[sortie][axis] = median(std::move(all));
    }
  std::vector<double> off;
  std::vector<int> station;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const adjust::Station& s = block.stations[i];
    if (!is_observed(s)) continue;
    // Less what the sortie has in common: a base station entered wrong is one error, not a hundred.
    off.push_back((s.position - s.C - out.offset[s.sortie]).norm());
    station.push_back(static_cast<int>(i));
  }
  out.median_off = median(off);
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  for (const int i : station) middle += block.stations[i].position / static_cast<double>(station.size());
  std::vector<double> from_middle;
  for (const int i : station) from_middle.push_back((block.stations[i].position - middle).norm());
  out.extent = median(std::move(from_middle));
  for (std::size_t k = 0; k < off.size(); ++k) {
    const adjust::Sortie& sortie = block.sorties[block.stations[station[k]].sortie];
    const double sigma = std::hypot(sortie.sigma_photo[0], sortie.sigma_photo[0], sortie.sigma_photo[1]);
    // Against the others and against what was stated, for positions are worse than stated as a rule, and alike.
    if (off[k] > 8 * out.median_off && off[k] > 5 * sigma) out.wrong.push_back({station[k], off[k]});
  }
  return out;
}

}  // namespace mesograph::orient
