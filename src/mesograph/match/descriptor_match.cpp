#include <algorithm>
#include <mesograph/match/descriptor_match.hpp>
#include <mesograph/match/nearest.hpp>

namespace mesograph::match {

std::vector<Match> match(const keypoint::Keypoints& a, const keypoint::Keypoints& b, const MatchOptions& options) {
  std::vector<Nearest> of_a, of_b;
  nearest_both_ways(a.descriptors.data(), std::min(options.most, a.points.size()), b.descriptors.data(),
                    std::min(options.most, b.points.size()), of_a, of_b);
  const auto distinct = [&](const Nearest& n) { return n.best < options.ratio * options.ratio * n.second; };
  std::vector<Match> out;
  for (std::size_t i = 0; i < of_a.size(); ++i) {
    const Nearest& there = of_a[i];
    if (there.index < 0 || !distinct(there)) continue;
    const Nearest& back = of_b[there.index];
    if (back.index == static_cast<std::int32_t>(i) && distinct(back))
      out.push_back({static_cast<std::int32_t>(i), there.index});
  }
  return out;
}

}  // namespace mesograph::match
