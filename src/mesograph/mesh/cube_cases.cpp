#include <cstdlib>
#include <mesograph/mesh/cube_cases.hpp>
#include <optional>

namespace mesograph::mesh {

namespace {

using Triangles = std::vector<std::array<std::uint8_t, 3>>;

std::array<CubeEdge, 12> make_edges() {
  std::array<CubeEdge, 12> out{};
  for (std::size_t e = 0; e < out.size(); ++e) {
    const int axis = static_cast<int>(e / 4), place = static_cast<int>(e % 4);
    const int first = (axis + 1) % 3, second = (axis + 2) % 3;
    const int low = std::min(first, second), high = std::max(first, second);
    const int from = (place & 1) << low | (place >> 1) << high;
    out[e] = {axis, from, from | 1 << axis};
  }
  return out;
}

int edge_between(int a, int b) {
  for (int e = 0; e < 12; ++e) {
    const CubeEdge& edge = cube_edges()[static_cast<std::size_t>(e)];
    if ((edge.from == a && edge.to == b) || (edge.from == b && edge.to == a)) return e;
  }
  std::abort();  // corners of a side follow each other along edges
}

/// The sides, each as its corners counter-clockwise as seen from outside.
std::array<std::array<int, 4>, 6> make_sides() {
  std::array<std::array<int, 4>, 6> out{};
  for (std::size_t axis = 0; axis < 3; ++axis) {
    const int u = 1 << (axis + 1) % 3, v = 1 << (axis + 2) % 3, far = 1 << axis;
    out[2 * axis] = {0, v, u | v, u};
    out[2 * axis + 1] = {far, far | u, far | u | v, far | v};
  }
  return out;
}

bool on_one_side(int a, int b) {
  const CubeEdge &one = cube_edges()[static_cast<std::size_t>(a)], &other = cube_edges()[static_cast<std::size_t>(b)];
  for (int axis = 0; axis < 3; ++axis)
    for (const int far : {0, 1 << axis}) {
      const int bit = 1 << axis;
      if ((one.from & bit) == far && (one.to & bit) == far && (other.from & bit) == far && (other.to & bit) == far)
        return true;
    }
  return false;
}

/// A polygon's triangles without diagonals that lie in a side; nothing where there are none such.
std::optional<Triangles> cut(const std::vector<int>& loop) {
  const auto n = static_cast<int>(loop.size());
  const auto at = [&](int i) { return loop[static_cast<std::size_t>((i + n) % n)]; };
  const auto triangle = [&](int i) {
    return std::array{static_cast<std::uint8_t>(at(i - 1)), static_cast<std::uint8_t>(at(i)),
                      static_cast<std::uint8_t>(at(i + 1))};
  };
  if (n == 3) return Triangles{triangle(1)};
  for (int i = 0; i < n; ++i) {
    if (on_one_side(at(i - 1), at(i + 1))) continue;
    std::vector<int> rest = loop;
    rest.erase(rest.begin() + i);
    if (std::optional<Triangles> out = cut(rest)) {
      out->push_back(triangle(i));
      return out;
    }
  }
  return std::nullopt;
}

Triangles make_case(int full) {
  // Going round a side, each way into the full is joined with the next way out. What is a way out there is the way in
  // of the side beyond that edge: so crossings follow each other round the surface.
  std::array<int, 12> next{};
  next.fill(-1);
  for (const std::array<int, 4>& side : make_sides())
    for (std::size_t i = 0; i < 4; ++i) {
      const auto is_full = [&](std::size_t k) { return (full >> side[k % 4] & 1) != 0; };
      if (is_full(i) || !is_full(i + 1)) continue;
      std::size_t out = i + 1;
      while (is_full(out + 1)) ++out;
      next[static_cast<std::size_t>(edge_between(side[i], side[(i + 1) % 4]))] =
          edge_between(side[out % 4], side[(out + 1) % 4]);
    }
  Triangles triangles;
  for (int first = 0; first < 12; ++first) {
    std::vector<int> loop;
    for (int e = first; next[static_cast<std::size_t>(e)] >= 0;) {
      loop.push_back(e);
      const int after = next[static_cast<std::size_t>(e)];
      next[static_cast<std::size_t>(e)] = -1;
      e = after;
    }
    if (loop.empty()) continue;
    const std::optional<Triangles> part = cut(loop);
    if (!part) std::abort();  // tests show that all have one
    triangles.insert(triangles.end(), part->begin(), part->end());
  }
  return triangles;
}

}  // namespace

const std::array<CubeEdge, 12>& cube_edges() {
  static const std::array<CubeEdge, 12> edges = make_edges();
  return edges;
}

const std::array<Triangles, 256>& cube_cases() {
  static const std::array<Triangles, 256> cases = [] {
    std::array<Triangles, 256> out;
    for (int full = 0; full < 256; ++full) out[static_cast<std::size_t>(full)] = make_case(full);
    return out;
  }();
  return cases;
}

}  // namespace mesograph::mesh
