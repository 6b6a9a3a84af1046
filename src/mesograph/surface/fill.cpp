#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/surface/fill.hpp>
#include <mesograph/surface/outline.hpp>
#include <unordered_map>

namespace mesograph::surface {

namespace {

using Cells = std::vector<std::size_t>;

/// Steps from each cell of a group to the nearest one outside, by sides.
std::vector<int> depths(const Grid& grid, const Cells& group) {
  std::unordered_map<std::size_t, int> depth;
  for (const std::size_t i : group) depth[i] = 0;
  Cells front;
  const auto around = [&](std::size_t i, const auto& visit) {
    const int col = grid.column_of(i), row = grid.row_of(i);
    for (const auto& [c, r] : {std::pair(col - 1, row), {col + 1, row}, {col, row - 1}, {col, row + 1}})
      if (grid.inside(c, r)) visit(grid.at(c, r));
  };
  for (const std::size_t i : group) {
    bool rim = false;
    around(i, [&](std::size_t to) { rim = rim || !depth.contains(to); });
    if (rim) depth[i] = 1, front.push_back(i);
  }
  for (std::size_t k = 0; k < front.size(); ++k)
    around(front[k], [&](std::size_t to) {
      const auto found = depth.find(to);
      if (found == depth.end() || found->second != 0) return;
      found->second = depth[front[k]] + 1;
      front.push_back(to);
    });
  std::vector<int> out;
  for (const std::size_t i : group) out.push_back(depth[i]);
  return out;
}

bool at_edge(const Grid& grid, const Cells& group) {
  return std::any_of(group.begin(), group.end(), [&](std::size_t i) {
    const int col = grid.column_of(i), row = grid.row_of(i);
    return col == 0 || row == 0 || col == grid.columns - 1 || row == grid.rows - 1;
  });
}

/// What is known and what is sought at the nodes of a gap's patch, `step` cells apart.
struct Patch {
  int west = 0, north = 0, step = 1, width = 0, height = 0;  // cells; nodes
  std::vector<double> z, weight;                             // mean and 1 / variance of what is known
  std::vector<char> part;                                    // 0 none, 1 known, 2 sought
  std::vector<char> cut_right, cut_down;                     // a breakline lies before the next node; empty: none
  int node(int col, int row) const { return (row - north) / step * width + (col - west) / step; }
};

/// `ring`: nodes around the gap that say how it goes on.
Patch patch_of(const Surface& s, const std::vector<Source>& source, const Cells& group, int step, int ring) {
  const Grid& grid = s.grid;
  int west = grid.columns, east = 0, north = grid.rows, south = 0;
  for (const std::size_t i : group) {
    const int col = grid.column_of(i), row = grid.row_of(i);
    west = std::min(west, col), east = std::max(east, col), north = std::min(north, row), south = std::max(south, row);
  }
  const int reach = ring * step;
  west = std::max(0, west - reach), north = std::max(0, north - reach);
  east = std::min(grid.columns - 1, east + reach), south = std::min(grid.rows - 1, south + reach);
  Patch p{west, north, step, (east - west) / step + 1, (south - north) / step + 1, {}, {}, {}, {}, {}};
  const std::size_t n = static_cast<std::size_t>(p.width) * p.height;
  p.z.assign(n, 0), p.weight.assign(n, 0), p.part.assign(n, 0);
  std::vector<char> near(n, 0);
  for (const std::size_t i : group) {
    const int col = grid.column_of(i), row = grid.row_of(i);
    p.part[static_cast<std::size_t>(p.node(col, row))] = 2;
    const int c0 = (col - west) / step, r0 = (row - north) / step;
    for (int r = std::max(0, r0 - ring); r <= std::min(p.height - 1, r0 + ring); ++r)
      for (int c = std::max(0, c0 - ring); c <= std::min(p.width - 1, c0 + ring); ++c)
        near[static_cast<std::size_t>(r) * p.width + c] = 1;
  }
  for (int row = north; row <= south; ++row)
    for (int col = west; col <= east; ++col) {
      const std::size_t i = grid.at(col, row), node = static_cast<std::size_t>(p.node(col, row));
      if (!near[node] || source[i] != Source::measured) continue;
      const double w = 1 / std::max(1e-12, std::pow(s.sigma[i], 2));
      p.z[node] += w * s.z[i], p.weight[node] += w;
      if (p.part[node] == 0) p.part[node] = 1;
    }
  for (std::size_t i = 0; i < n; ++i)
    if (p.weight[i] > 0) p.z[i] /= p.weight[i];
  return p;
}

/// Notes which nodes lie on two sides of a breakline.
void cut(const Grid& grid, const Breaklines& breaklines, Patch& p) {
  if (breaklines.empty()) return;
  p.cut_right.assign(p.part.size(), 0), p.cut_down.assign(p.part.size(), 0);
  const auto place = [&](int c, int r) -> Eigen::Vector2d {
    const double half = 0.5 * (p.step - 1) * grid.cell;
    return grid.middle(p.west + c * p.step, p.north + r * p.step) + Eigen::Vector2d(half, -half);
  };
  for (int r = 0; r < p.height; ++r)
    for (int c = 0; c < p.width; ++c) {
      const std::size_t i = static_cast<std::size_t>(r) * p.width + c;
      p.cut_right[i] = c + 1 < p.width && breaklines.between(place(c, r), place(c + 1, r));
      p.cut_down[i] = r + 1 < p.height && breaklines.between(place(c, r), place(c, r + 1));
    }
}

/// Calls visit(a, b, c) with the nodes of second differences a - 2 b + c along both axes, and twist(a, b, c, d) with
/// those of mixed ones, of nodes that take part.
template <typename Visit, typename Twist>
void bends(const Patch& p, const Visit& visit, const Twist& twist) {
  const auto in = [&](int c, int r) { return p.part[static_cast<std::size_t>(r) * p.width + c] != 0; };
  const auto at = [&](int c, int r) { return r * p.width + c; };
  const auto right = [&](int c, int r) { return p.cut_right.empty() || !p.cut_right[at(c, r)]; };  // no line between
  const auto down = [&](int c, int r) { return p.cut_down.empty() || !p.cut_down[at(c, r)]; };
  for (int r = 0; r < p.height; ++r)
    for (int c = 0; c < p.width; ++c) {
      if (c > 0 && c + 1 < p.width && in(c - 1, r) && in(c, r) && in(c + 1, r) && right(c - 1, r) && right(c, r))
        visit(at(c - 1, r), at(c, r), at(c + 1, r));
      if (r > 0 && r + 1 < p.height && in(c, r - 1) && in(c, r) && in(c, r + 1) && down(c, r - 1) && down(c, r))
        visit(at(c, r - 1), at(c, r), at(c, r + 1));
      if (c + 1 < p.width && r + 1 < p.height && in(c, r) && in(c + 1, r) && in(c, r + 1) && in(c + 1, r + 1) &&
          right(c, r) && right(c, r + 1) && down(c, r) && down(c + 1, r))
        twist(at(c, r), at(c + 1, r), at(c, r + 1), at(c + 1, r + 1));
    }
}

/// How much the known nodes bend from one to the next, m; what their noise alone would make is the least.
double usual_bend(const Patch& p) {
  std::vector<double> found;
  bends(
      p,
      [&](int a, int b, int c) {
        if (p.part[a] == 1 && p.part[b] == 1 && p.part[c] == 1) found.push_back(std::abs(p.z[a] - 2 * p.z[b] + p.z[c]));
      },
      [](int, int, int, int) {});
  return found.empty() ? 0 : std::max(1e-6, 1.4826 * median(std::move(found)));
}

using Factor = Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>>;

/// `factor`: keeps its ordering from one set of weights to the next.
std::vector<double> solve(const Patch& p, double bend, Factor& factor) {
  const auto n = static_cast<Eigen::Index>(p.z.size());
  std::vector<Eigen::Triplet<double>> entries;
  Eigen::VectorXd right = Eigen::VectorXd::Zero(n);
  const double w = 1 / (bend * bend);
  const auto add = [&](std::initializer_list<std::pair<int, double>> terms) {
    for (const auto& [i, a] : terms)
      for (const auto& [j, b] : terms) entries.emplace_back(i, j, w * a * b);
  };
  bends(
      p,
      [&](int a, int b, int c) {
        add({{a, 1.0}, {b, -2.0}, {c, 1.0}});
      },
      [&](int a, int b, int c, int d) {
        const double s = std::sqrt(2.0);
        add({{a, s}, {b, -s}, {c, -s}, {d, s}});
      });
  double level = 0, total = 0;
  for (std::size_t i = 0; i < p.z.size(); ++i) level += p.weight[i] * p.z[i], total += p.weight[i];
  level /= total;
  for (Eigen::Index i = 0; i < n; ++i) {
    const auto k = static_cast<std::size_t>(i);
    // A touch of the mean height keeps nodes apart that nothing else holds; never enough to draw what is measured.
    const double own = p.part[k] == 0 ? 1.0 : p.weight[k] + std::min(1e-9 * w, 1e-6 * total / static_cast<double>(n));
    entries.emplace_back(i, i, own);
    right[i] = p.part[k] == 0 ? 0.0 : p.weight[k] * (p.z[k] - level);
  }
  Eigen::SparseMatrix<double> A(n, n);
  A.setFromTriplets(entries.begin(), entries.end());
  if (factor.rows() != A.rows()) factor.analyzePattern(A);
  factor.factorize(A);
  const Eigen::VectorXd z = factor.solve(right);
  std::vector<double> out(p.z.size());
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = level + z[static_cast<Eigen::Index>(i)];
  return out;
}

/// Between the nodes about a cell's middle that take part.
double between(const Patch& p, const std::vector<double>& z, int col, int row) {
  const double x = (col - p.west + 0.5) / p.step - 0.5, y = (row - p.north + 0.5) / p.step - 0.5;
  const int c0 = static_cast<int>(std::floor(x)), r0 = static_cast<int>(std::floor(y));
  double sum = 0, total = 0;
  for (int r = r0; r <= r0 + 1; ++r)
    for (int c = c0; c <= c0 + 1; ++c) {
      if (c < 0 || r < 0 || c >= p.width || r >= p.height) continue;
      const std::size_t i = static_cast<std::size_t>(r) * p.width + c;
      const double w = (1 - std::abs(x - c)) * (1 - std::abs(y - r));
      if (p.part[i] != 0) sum += w * z[i], total += w;
    }
  return total > 1e-9 ? sum / total : std::numeric_limits<double>::quiet_NaN();
}

/// Parts of the known nodes that hang together without a jump, numbered; -1: not known.
std::vector<int> layers_of(const Patch& p, double jump, int& count) {
  std::vector<int> out(p.z.size(), -1);
  count = 0;
  for (std::size_t first = 0; first < out.size(); ++first) {
    if (p.part[first] != 1 || out[first] >= 0) continue;
    std::vector<std::size_t> open = {first};
    out[first] = count;
    while (!open.empty()) {
      const std::size_t i = open.back();
      open.pop_back();
      const int col = static_cast<int>(i) % p.width, row = static_cast<int>(i) / p.width;
      for (const auto& [c, r] : {std::pair(col - 1, row), {col + 1, row}, {col, row - 1}, {col, row + 1}}) {
        if (c < 0 || r < 0 || c >= p.width || r >= p.height) continue;
        const std::size_t j = static_cast<std::size_t>(r) * p.width + c;
        if (p.part[j] != 1 || out[j] >= 0 || std::abs(p.z[j] - p.z[i]) > jump) continue;
        out[j] = count;
        open.push_back(j);
      }
    }
    ++count;
  }
  return out;
}

/// Numbers layers anew so that those of one level are one: one slope for all, and a level for each (least squares).
/// Layers of a few nodes are none: -1.
void join_levels(const Patch& p, double jump, int count, std::vector<int>& layer) {
  struct Sums {
    double n = 0, x = 0, y = 0, z = 0;
  };
  std::vector<Sums> sums(static_cast<std::size_t>(count));
  const auto each = [&](const auto& visit) {
    for (std::size_t i = 0; i < layer.size(); ++i)
      if (layer[i] >= 0)
        visit(sums[static_cast<std::size_t>(layer[i])], static_cast<double>(i % static_cast<std::size_t>(p.width)),
              static_cast<double>(i / static_cast<std::size_t>(p.width)), p.z[i]);
  };
  each([](Sums& s, double x, double y, double z) { ++s.n, s.x += x, s.y += y, s.z += z; });
  double xx = 1e-9, xy = 0, yy = 1e-9, xz = 0, yz = 0;
  each([&](const Sums& s, double x, double y, double z) {
    const double dx = x - s.x / s.n, dy = y - s.y / s.n, dz = z - s.z / s.n;
    xx += dx * dx, xy += dx * dy, yy += dy * dy, xz += dx * dz, yz += dy * dz;
  });
  const double det = xx * yy - xy * xy, a = (xz * yy - yz * xy) / det, b = (yz * xx - xz * xy) / det;
  constexpr double enough = 8;  // nodes
  std::vector<std::pair<double, int>> order;
  for (int k = 0; k < count; ++k)
    if (const Sums& s = sums[static_cast<std::size_t>(k)]; s.n >= enough)
      order.emplace_back((s.z - a * s.x - b * s.y) / s.n, k);
  std::sort(order.begin(), order.end());
  std::vector<int> level(static_cast<std::size_t>(count), -1);
  int now = 0;
  for (std::size_t k = 0; k < order.size(); ++k) {
    if (k > 0 && order[k].first - order[k - 1].first > 2 * jump) ++now;
    level[static_cast<std::size_t>(order[k].second)] = now;
  }
  for (int& l : layer)
    if (l >= 0) l = level[static_cast<std::size_t>(l)];
}

/// Between a roof and the ground beside it a gap has two levels and no slope: each of its nodes goes with the nearest
/// layer, and the surface may jump between those of two.
void split_layers(const Grid& grid, Patch& p) {
  const double jump = 1.5 * grid.cell * p.step;  // a slope of 56 degrees is none
  int count = 0;
  std::vector<int> layer = layers_of(p, jump, count);
  if (count < 2) return;
  join_levels(p, jump, count, layer);
  std::vector<std::size_t> front;
  for (std::size_t i = 0; i < layer.size(); ++i)
    if (layer[i] >= 0) front.push_back(i);
  const auto at = [&](int c, int r) { return static_cast<std::size_t>(r) * p.width + c; };
  for (std::size_t k = 0; k < front.size(); ++k) {
    const int col = static_cast<int>(front[k]) % p.width, row = static_cast<int>(front[k]) / p.width;
    for (const auto& [c, r] : {std::pair(col - 1, row), {col + 1, row}, {col, row - 1}, {col, row + 1}}) {
      if (c < 0 || r < 0 || c >= p.width || r >= p.height || p.part[at(c, r)] == 0 || layer[at(c, r)] >= 0) continue;
      layer[at(c, r)] = layer[front[k]];
      front.push_back(at(c, r));
    }
  }
  if (p.cut_right.empty()) p.cut_right.assign(p.part.size(), 0), p.cut_down.assign(p.part.size(), 0);
  for (int r = 0; r < p.height; ++r)
    for (int c = 0; c < p.width; ++c) {
      if (c + 1 < p.width && layer[at(c, r)] != layer[at(c + 1, r)]) p.cut_right[at(c, r)] = 1;
      if (r + 1 < p.height && layer[at(c, r)] != layer[at(c, r + 1)]) p.cut_down[at(c, r)] = 1;
    }
}

void fill_group(const std::vector<Source>& source, const Breaklines& breaklines, const Cells& group, Surface& s) {
  constexpr std::size_t most = 100000;
  std::size_t apart = 1;
  while (group.size() / (apart * apart) > most) apart *= 2;
  const auto step = static_cast<int>(apart);
  const std::vector<int> deep = depths(s.grid, group);
  // As far around as it is to its middle: a wide gap asks for how the ground slopes, not how its rim does.
  const int deepest = *std::max_element(deep.begin(), deep.end()) / step;
  Patch patch = patch_of(s, source, group, step, std::clamp(deepest, 4, 30));
  cut(s.grid, breaklines, patch);
  // What something stands on is ground, whatever stands beside it: below, higher nodes lose their say instead.
  const bool stands =
      std::any_of(group.begin(), group.end(), [&](std::size_t i) { return source[i] == Source::covered; });
  if (!stands) split_layers(s.grid, patch);
  double variance = 0;
  std::size_t known = 0;
  for (std::size_t i = 0; i < patch.z.size(); ++i)
    if (patch.part[i] == 1) variance += 1 / patch.weight[i], ++known;
  const double bend = usual_bend(patch);
  if (known < 8 || !(bend > 0)) return;  // nothing around says how it goes on
  variance /= static_cast<double>(known);
  Factor factor;
  std::vector<double> z = solve(patch, bend, factor);
  // What stands on the ground also hides in its rim, as foot of a wall or skirt of a shrub, always above it: what lies
  // there higher than the rest lets it be hardly counts.
  for (int round = 0; stands && round < 3; ++round) {
    std::vector<double> off;
    for (std::size_t i = 0; i < z.size(); ++i)
      if (patch.part[i] == 1) off.push_back(std::abs(patch.z[i] - z[i]));
    const double usual = 1.4826 * median(std::move(off));
    Patch calmer = patch;
    for (std::size_t i = 0; i < z.size(); ++i)
      if (patch.part[i] == 1 && patch.z[i] - z[i] > 2 * usual) calmer.weight[i] *= 0.01;
    z = solve(calmer, bend, factor);
  }
  for (std::size_t k = 0; k < group.size(); ++k) {
    const int col = s.grid.column_of(group[k]), row = s.grid.row_of(group[k]);
    const double height = between(patch, z, col, row);
    if (!std::isfinite(height)) continue;
    s.z[group[k]] = static_cast<float>(height);
    // In the middle of a gap that is clamped at both ends an integrated random walk strays by its step times the root
    // of depth^3 / 24; two of these, as most gaps are open along one of their axes for a while.
    const double strayed = bend * std::pow(static_cast<double>(deep[k]) / step, 1.5) / std::sqrt(12.0);
    s.sigma[group[k]] = static_cast<float>(std::sqrt(variance + strayed * strayed));
    s.source[group[k]] = Source::filled;
  }
}

}  // namespace

void fill_gaps(const FillOptions& options, const Breaklines& breaklines, Surface& surface, Progress& progress) {
  std::vector<std::int8_t> empty(surface.grid.size(), 0), sought(surface.grid.size(), 0);
  for (std::size_t i = 0; i < empty.size(); ++i) {
    empty[i] = surface.source[i] == Source::empty;
    sought[i] = surface.source[i] == Source::covered;
  }
  for (const Cells& gap : groups_of(surface.grid, empty, Touch::sides)) {
    if (at_edge(surface.grid, gap)) continue;
    const std::vector<int> deep = depths(surface.grid, gap);
    if (2 * *std::max_element(deep.begin(), deep.end()) > options.widest + 1) continue;
    for (const std::size_t i : gap) sought[i] = 1;
  }
  const std::vector<Cells> gaps = groups_of(surface.grid, sought, Touch::sides);
  progress.start("filling gaps", gaps.size());
  const std::vector<Source> source = surface.source;  // each reads measured cells alone, which nobody changes
  parallel_for(gaps.size(), [&](std::size_t g) {
    progress.check();
    fill_group(source, breaklines, gaps[g], surface);
    progress.advance();
  });
}

}  // namespace mesograph::surface
