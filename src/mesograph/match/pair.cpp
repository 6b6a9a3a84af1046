#include <mesograph/match/pair.hpp>

namespace mesograph::match {

namespace {

Eigen::Matrix2Xd image_points(const keypoint::Keypoints& keypoints) {
  Eigen::Matrix2Xd x(2, keypoints.points.size());
  for (std::size_t i = 0; i < keypoints.points.size(); ++i)
    x.col(static_cast<Eigen::Index>(i)) << keypoints.points[i].x, keypoints.points[i].y;
  return x;
}

}  // namespace

std::vector<Match> match_pair(const keypoint::Keypoints& a, const camera::Camera& camera_a,
                              const keypoint::Keypoints& b, const camera::Camera& camera_b, std::uint64_t seed,
                              const PairMatchOptions& options) {
  const Eigen::Matrix2Xd x_a = image_points(a), x_b = image_points(b);
  const auto verified = [&](std::size_t most, int least) {
    MatchOptions some;
    some.most = most;
    VerifyOptions by;
    by.least_inliers = least;
    return verify(match(a, b, some), x_a, camera_a, x_b, camera_b, seed, by);
  };
  const int least = VerifyOptions().least_inliers;
  const Verification telling = verified(options.telling, least);
  if (telling.matches.size() >= options.least_leading) return guide(telling, a, camera_a, b, camera_b, options.guided);
  const Verification doubting = verified(options.doubting, options.least_in_doubt);
  if (doubting.matches.empty()) return {};
  if (doubting.matches.size() >= static_cast<std::size_t>(least))
    return guide(doubting, a, camera_a, b, camera_b, options.guided);
  return guide(verified(std::max(a.points.size(), b.points.size()), least), a, camera_a, b, camera_b);
}

}  // namespace mesograph::match
