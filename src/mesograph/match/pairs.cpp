#include <algorithm>
#include <map>
#include <mesograph/match/pairs.hpp>
#include <set>

namespace mesograph::match {

std::vector<std::pair<int, int>> plan_pairs(const std::vector<PairPhoto>& photos, const PairOptions& options) {
  std::set<std::pair<int, int>> pairs;
  const int n = static_cast<int>(photos.size());
  const bool all = photos.size() <= options.all_below;
  for (int i = 0; i < n; ++i) {
    std::map<int, std::vector<std::pair<double, int>>> by_sortie;
    for (int j = 0; j < n; ++j) {
      if (i == j) continue;
      const double d = (photos[i].X - photos[j].X).head<2>().norm();
      if (all || !(d >= 0))
        pairs.emplace(std::min(i, j), std::max(i, j));
      else
        by_sortie[photos[j].sortie].emplace_back(d, j);
    }
    for (auto& [sortie, near] : by_sortie) {
      const auto keep = static_cast<std::size_t>(sortie == photos[i].sortie ? options.neighbours : options.across);
      std::sort(near.begin(), near.end());
      for (std::size_t k = 0; k < std::min(keep, near.size()); ++k)
        pairs.emplace(std::min(i, near[k].second), std::max(i, near[k].second));
    }
  }
  return {pairs.begin(), pairs.end()};
}

}  // namespace mesograph::match
