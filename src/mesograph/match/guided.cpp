#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/wide.hpp>
#include <mesograph/match/guided.hpp>
#include <optional>

namespace mesograph::match {

namespace {

MESOGRAPH_WIDE std::int32_t distance2(const std::uint8_t* __restrict a, const std::uint8_t* __restrict b) {
  std::int32_t sum = 0;
  for (int k = 0; k < keypoint::descriptor_size; ++k) {
    const std::int32_t d = a[k] - b[k];
    sum += d * d;
  }
  return sum;
}

Eigen::Vector2d place(const keypoint::Keypoint& k) { return {k.x, k.y}; }
double turn_between(double a, double b) { return std::remainder(b - a, 2 * pi); }

/// Where the verified matches around a place of photo a lead: x_b = A (x_a - x0) + y0.
struct Lead {
  Eigen::Vector2d x0, y0;
  Eigen::Matrix2d A;
  double scatter = 0;  ///< of the matches themselves, px
  double turn = 0, octaves = 0;
};

/// From the matches nearest to a place; none where they are too far away to say anything.
std::optional<Lead> lead_at(const Eigen::Vector2d& x, double most_distance, const std::vector<Match>& matches,
                            const keypoint::Keypoints& a, const keypoint::Keypoints& b) {
  constexpr std::size_t used = 10;  // neighbours that lead: a median of ten stands four wrong ones
  std::vector<std::pair<double, std::size_t>> near;
  for (std::size_t i = 0; i < matches.size(); ++i)
    near.emplace_back((place(a.points[matches[i].a]) - x).squaredNorm(), i);
  if (near.size() < used) return std::nullopt;
  std::partial_sort(near.begin(), near.begin() + used, near.end());
  // The median neighbour: some near ones and the rest across the photo lead nowhere.
  if (std::sqrt(near[used / 2].first) > most_distance) return std::nullopt;
  Lead out{Eigen::Vector2d::Zero(), Eigen::Vector2d::Zero(), Eigen::Matrix2d::Zero()};
  double sine = 0, cosine = 0;
  for (std::size_t k = 0; k < used; ++k) {
    const Match& m = matches[near[k].second];
    const keypoint::Keypoint &ka = a.points[m.a], &kb = b.points[m.b];
    out.x0 += place(ka) / used, out.y0 += place(kb) / used;
    // Angles are averaged as vectors: 359 and 1 degree make 0.
    sine += std::sin(kb.angle - ka.angle), cosine += std::cos(kb.angle - ka.angle);
    out.octaves += std::log2(kb.scale / ka.scale) / used;
  }
  out.turn = std::atan2(sine, cosine);
  Eigen::Matrix2d xx = Eigen::Matrix2d::Identity(), yx = Eigen::Matrix2d::Zero();  // 1 px^2 keeps lines solvable
  for (std::size_t k = 0; k < used; ++k) {
    const Match& m = matches[near[k].second];
    const Eigen::Vector2d dx = place(a.points[m.a]) - out.x0, dy = place(b.points[m.b]) - out.y0;
    xx += dx * dx.transpose(), yx += dy * dx.transpose();
  }
  out.A = xx.llt().solve(yx.transpose()).transpose();
  for (std::size_t k = 0; k < used; ++k) {
    const Match& m = matches[near[k].second];
    const Eigen::Vector2d e = place(b.points[m.b]) - out.y0 - out.A * (place(a.points[m.a]) - out.x0);
    // Ten differences of two coordinates less three a coordinate: what the ground's relief leaves of an affine map.
    out.scatter += e.squaredNorm() / (used - 3);
  }
  out.scatter = std::sqrt(out.scatter);
  return out;
}

/// Keypoints of a photo by square cells.
struct Buckets {
  double side;
  int columns, rows;
  std::vector<std::vector<std::int32_t>> cell;
  Buckets(const keypoint::Keypoints& keys, int width, int height, double cell_side)
      : side(cell_side),
        columns(static_cast<int>(width / side) + 1),
        rows(static_cast<int>(height / side) + 1),
        cell(columns * rows) {
    for (std::size_t i = 0; i < keys.points.size(); ++i)
      cell[at(keys.points[i].x, keys.points[i].y)].push_back(static_cast<std::int32_t>(i));
  }
  int at(double x, double y) const {
    return std::clamp(static_cast<int>(y / side), 0, rows - 1) * columns +
           std::clamp(static_cast<int>(x / side), 0, columns - 1);
  }
  template <typename See>
  void around(const Eigen::Vector2d& x, double reach, const See& see) const {
    const int c0 = std::max(0, static_cast<int>((x.x() - reach) / side)),
              c1 = std::min(columns - 1, static_cast<int>((x.x() + reach) / side));
    const int r0 = std::max(0, static_cast<int>((x.y() - reach) / side)),
              r1 = std::min(rows - 1, static_cast<int>((x.y() + reach) / side));
    for (int r = r0; r <= r1; ++r)
      for (int c = c0; c <= c1; ++c)
        for (const std::int32_t i : cell[r * columns + c]) see(i);
  }
};

std::vector<std::optional<Eigen::Vector3d>> rays_of(const keypoint::Keypoints& keys, const camera::Camera& camera) {
  std::vector<std::optional<Eigen::Vector3d>> out;
  for (const keypoint::Keypoint& k : keys.points) out.push_back(camera::ray(camera, place(k)));
  return out;
}

/// Distance that such a share of the verified matches keeps below.
std::int32_t usual_distance2(const std::vector<Match>& matches, const keypoint::Keypoints& a,
                             const keypoint::Keypoints& b, double share) {
  std::vector<std::int32_t> all;
  for (const Match& m : matches)
    all.push_back(distance2(&a.descriptors[static_cast<std::size_t>(m.a) * keypoint::descriptor_size],
                            &b.descriptors[static_cast<std::size_t>(m.b) * keypoint::descriptor_size]));
  const auto at = all.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(all.size() - 1));
  std::nth_element(all.begin(), at, all.end());
  return *at;
}

}  // namespace

std::vector<Match> guide(const Verification& verified, const keypoint::Keypoints& a, const camera::Camera& camera_a,
                         const keypoint::Keypoints& b, const camera::Camera& camera_b, const GuidedOptions& options) {
  if (verified.matches.empty()) return {};
  const double longer = std::max(camera_b.width, camera_b.height);
  const std::int32_t usual = usual_distance2(verified.matches, a, b, options.usual_share);
  constexpr int cells = 12;  // a photo has some hundred matches: one to ten a cell
  std::vector<std::optional<Lead>> leads;
  const double width = camera_a.width, height = camera_a.height;
  for (int r = 0; r < cells; ++r)
    for (int c = 0; c < cells; ++c)
      leads.push_back(lead_at({(c + 0.5) * width / cells, (r + 0.5) * height / cells},
                              2 * std::max(width, height) / cells, verified.matches, a, b));
  const Buckets buckets(b, camera_b.width, camera_b.height, longer / 64);
  const auto rays_a = rays_of(a, camera_a), rays_b = rays_of(b, camera_b);
  std::vector<char> used_a(a.points.size(), 0), used_b(b.points.size(), 0);
  for (const Match& m : verified.matches) used_a[m.a] = used_b[m.b] = 1;
  std::vector<std::pair<std::int32_t, std::int32_t>> claim(b.points.size(), {INT32_MAX, -1});  // distance, a
  for (std::size_t i = 0; i < a.points.size(); ++i) {
    const keypoint::Keypoint& ka = a.points[i];
    const int cell = std::clamp(static_cast<int>(ka.y * cells / height), 0, cells - 1) * cells +
                     std::clamp(static_cast<int>(ka.x * cells / width), 0, cells - 1);
    const auto& lead = leads[cell];
    if (used_a[i] || !lead || !rays_a[i]) continue;
    const Eigen::Vector2d x = lead->y0 + lead->A * (place(ka) - lead->x0);
    const double reach = std::clamp(3 * lead->scatter, options.least_reach * longer, options.most_reach * longer);
    std::int32_t best = INT32_MAX, second = INT32_MAX, chosen = -1;
    buckets.around(x, reach, [&](std::int32_t j) {
      const keypoint::Keypoint& kb = b.points[j];
      if ((place(kb) - x).squaredNorm() > reach * reach || !rays_b[j]) return;
      if (std::abs(std::remainder(turn_between(ka.angle, kb.angle) - lead->turn, 2 * pi)) >
          options.most_turn_deg * rad_per_deg)
        return;
      if (std::abs(std::log2(kb.scale / ka.scale) - lead->octaves) > options.most_scale_octaves) return;
      if (sampson2(verified.E, *rays_a[i], *rays_b[j]) > verified.limit2) return;
      const std::int32_t d = distance2(&a.descriptors[i * keypoint::descriptor_size],
                                       &b.descriptors[static_cast<std::size_t>(j) * keypoint::descriptor_size]);
      if (d < best)
        second = best, best = d, chosen = j;
      else
        second = std::min(second, d);
    });
    if (chosen < 0 || used_b[chosen] || best > usual || best >= options.ratio * options.ratio * second) continue;
    claim[chosen] = std::min(claim[chosen], {best, static_cast<std::int32_t>(i)});
  }
  std::vector<Match> out = verified.matches;
  for (std::size_t j = 0; j < claim.size(); ++j)
    if (claim[j].second >= 0) out.push_back({claim[j].second, static_cast<std::int32_t>(j)});
  std::sort(out.begin(), out.end(), [](const Match& m, const Match& n) { return m.a < n.a; });
  return out;
}

}  // namespace mesograph::match
