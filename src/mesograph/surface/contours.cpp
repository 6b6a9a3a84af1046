#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/surface/contours.hpp>
#include <mesograph/surface/vector_file.hpp>
#include <unordered_map>

namespace mesograph::surface {

double Contour::length() const {
  double sum = 0;
  for (std::size_t i = 1; i < places.size(); ++i) sum += (places[i] - places[i - 1]).norm();
  return sum;
}

namespace {

/// Gaussian mean along one axis of what there is; NaN stays NaN.
std::vector<float> smoothed_along(const Grid& grid, const std::vector<float>& z, bool rows, double sigma) {
  const int reach = static_cast<int>(std::ceil(3 * sigma));
  std::vector<double> kernel;
  for (int k = -reach; k <= reach; ++k) kernel.push_back(std::exp(-0.5 * k * k / (sigma * sigma)));
  std::vector<float> out(z.size(), std::numeric_limits<float>::quiet_NaN());
  parallel_for(static_cast<std::size_t>(grid.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    for (int col = 0; col < grid.columns; ++col) {
      if (!std::isfinite(z[grid.at(col, row)])) continue;
      double sum = 0, total = 0;
      for (int k = -reach; k <= reach; ++k) {
        const int c = rows ? col : col + k, at = rows ? row + k : row;
        if (!grid.inside(c, at)) continue;
        const float v = z[grid.at(c, at)];
        if (!std::isfinite(v)) continue;
        const int at_kernel = k + reach;
        const double w = kernel[static_cast<std::size_t>(at_kernel)];
        sum += w * v, total += w;
      }
      out[grid.at(col, row)] = static_cast<float>(sum / total);
    }
  });
  return out;
}

/// The surface's heights, smoothed, and nowhere moved by more than `most`, m.
std::vector<float> smoothed(const Surface& s, double sigma, double most) {
  if (!(sigma > 0)) return s.z;
  std::vector<float> out = smoothed_along(s.grid, smoothed_along(s.grid, s.z, false, sigma), true, sigma);
  const auto limit = static_cast<float>(most);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = std::clamp(out[i], s.z[i] - limit, s.z[i] + limit);
  return out;
}

/// Sides of the squares between middles of cells: 2 i from cell i to the east, 2 i + 1 to the south.
using Side = std::uint64_t;

struct Piece {
  Side from, to;
  bool filled;
};

/// The pieces of lines of one height, the higher ground on their left.
std::map<int, std::vector<Piece>> pieces_of(const Surface& s, const std::vector<float>& z, double interval) {
  const Grid& g = s.grid;
  std::map<int, std::vector<Piece>> out;
  for (int row = 0; row + 1 < g.rows; ++row)
    for (int col = 0; col + 1 < g.columns; ++col) {
      // Corners in turn: northwest, northeast, southeast, southwest.
      const std::size_t at[] = {g.at(col, row), g.at(col + 1, row), g.at(col + 1, row + 1), g.at(col, row + 1)};
      const float v[] = {z[at[0]], z[at[1]], z[at[2]], z[at[3]]};
      const auto [low, high] = std::minmax({v[0], v[1], v[2], v[3]});
      if (!std::isfinite(v[0] + v[1] + v[2] + v[3])) continue;
      const Side sides[] = {2 * at[0], 2 * at[1] + 1, 2 * at[3], 2 * at[0] + 1};  // north, east, south, west
      const bool filled =
          std::any_of(std::begin(at), std::end(at), [&](std::size_t i) { return s.source[i] != Source::measured; });
      for (int k = static_cast<int>(std::ceil(low / interval)); k * interval <= high; ++k) {
        const double level = k * interval;
        bool above[4];
        for (int c = 0; c < 4; ++c) above[c] = v[c] >= level;
        const int count = above[0] + above[1] + above[2] + above[3];
        if (count == 0 || count == 4) continue;
        // Going round with the clock, a line leaves through a side where the ground falls below the level and comes in
        // where it rises: higher ground on the left.
        std::vector<Side> falls, rises;
        for (int c = 0; c < 4; ++c) {
          if (above[c] && !above[(c + 1) % 4]) falls.push_back(sides[c]);
          if (!above[c] && above[(c + 1) % 4]) rises.push_back(sides[c]);
        }
        if (falls.size() == 1) {
          out[k].push_back({falls[0], rises[0], filled});
          continue;
        }
        // A saddle: the middle says which corners hang together.
        const bool joined = 0.25 * (v[0] + v[1] + v[2] + v[3]) >= level;
        const bool first_above = above[0];
        // Sides in turn alternate; a high corner is cut off on its own where the middle is low.
        for (std::size_t f = 0; f < 2; ++f) {
          const std::size_t r = (joined ? f + (first_above ? 0 : 1) : f + (first_above ? 1 : 0)) % 2;
          out[k].push_back({falls[f], rises[r], filled});
        }
      }
    }
  return out;
}

Eigen::Vector2d place_on(const Grid& g, const std::vector<float>& z, Side side, double level) {
  const std::size_t i = side / 2, j = side % 2 == 0 ? i + 1 : i + static_cast<std::size_t>(g.columns);
  const double t = (level - z[i]) / (static_cast<double>(z[j]) - z[i]);
  const int col = g.column_of(i), row = g.row_of(i);
  const Eigen::Vector2d a = g.middle(col, row);
  return side % 2 == 0 ? Eigen::Vector2d(a.x() + t * g.cell, a.y()) : Eigen::Vector2d(a.x(), a.y() - t * g.cell);
}

/// A line as its places, and of each piece whether it goes over filled cells.
struct Chain {
  std::vector<Eigen::Vector2d> places;
  std::vector<bool> filled;
};

std::vector<Chain> chains_of(const Grid& g, const std::vector<float>& z, std::vector<Piece> pieces, double level) {
  std::sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) { return a.from < b.from; });
  std::unordered_map<Side, std::size_t> by_start;
  std::unordered_map<Side, bool> is_end;
  for (std::size_t i = 0; i < pieces.size(); ++i) by_start[pieces[i].from] = i, is_end[pieces[i].to] = true;
  std::vector<bool> used(pieces.size(), false);
  std::vector<Chain> out;
  const auto follow = [&](std::size_t first) {
    Chain chain;
    chain.places.push_back(place_on(g, z, pieces[first].from, level));
    for (std::size_t i = first; !used[i];) {
      used[i] = true;
      chain.places.push_back(place_on(g, z, pieces[i].to, level));
      chain.filled.push_back(pieces[i].filled);
      const auto next = by_start.find(pieces[i].to);
      if (next == by_start.end()) break;
      i = next->second;
    }
    out.push_back(std::move(chain));
  };
  for (std::size_t i = 0; i < pieces.size(); ++i)  // lines with ends first, then rings
    if (!is_end.contains(pieces[i].from)) follow(i);
  for (std::size_t i = 0; i < pieces.size(); ++i)
    if (!used[i]) follow(i);
  return out;
}

/// The runs of a chain that are measured or filled; those shorter than `least` go with what is beside them, which is
/// what most of the whole is.
std::vector<Contour> runs_of(const Chain& chain, double least) {
  std::vector<Contour> runs;
  std::vector<double> length, filled_length;
  const auto add = [&](std::size_t to, const std::vector<Eigen::Vector2d>& places, double all, double filled) {
    runs[to].places.insert(runs[to].places.end(), places.begin() + 1, places.end());
    length[to] += all, filled_length[to] += filled;
    runs[to].filled = filled_length[to] > 0.5 * length[to];
  };
  for (std::size_t i = 0; i < chain.filled.size(); ++i) {
    if (runs.empty() || runs.back().filled != chain.filled[i]) {
      runs.push_back({0, false, chain.filled[i], {chain.places[i]}});
      length.push_back(0), filled_length.push_back(0);
    }
    const double piece = (chain.places[i + 1] - chain.places[i]).norm();
    runs.back().places.push_back(chain.places[i + 1]);
    length.back() += piece, filled_length.back() += chain.filled[i] ? piece : 0;
  }
  const auto join = [&](std::size_t first) {  // with the next
    add(first, runs[first + 1].places, length[first + 1], filled_length[first + 1]);
    const auto next = static_cast<std::ptrdiff_t>(first) + 1;
    runs.erase(runs.begin() + next), length.erase(length.begin() + next);
    filled_length.erase(filled_length.begin() + next);
  };
  while (runs.size() > 1) {  // the shortest first
    const std::size_t shortest =
        static_cast<std::size_t>(std::min_element(length.begin(), length.end()) - length.begin());
    if (length[shortest] >= least) break;
    join(shortest > 0 ? shortest - 1 : 0);
  }
  for (std::size_t i = 0; i + 1 < runs.size();)  // neighbours that became alike are one
    if (runs[i].filled == runs[i + 1].filled)
      join(i);
    else
      ++i;
  return runs;
}

/// Whether the heights under a piece stay near the line's own.
bool stays_level(const Surface& s, const Eigen::Vector2d& a, const Eigen::Vector2d& b, double level, double most) {
  const int steps = std::max(1, static_cast<int>(std::ceil(2 * (b - a).norm() / s.grid.cell)));
  for (int k = 1; k < steps; ++k) {
    const double height = s.height(a + (b - a) * (k / static_cast<double>(steps)));
    if (!(std::abs(height - level) <= most)) return false;
  }
  return true;
}

double off_piece(const Eigen::Vector2d& p, const Eigen::Vector2d& a, const Eigen::Vector2d& b) {
  const Eigen::Vector2d d = b - a;
  const double length = d.squaredNorm(), t = length > 0 ? std::clamp((p - a).dot(d) / length, 0.0, 1.0) : 0;
  return (p - a - t * d).norm();
}

void simplify(const Surface& s, double tolerance, double most, Contour& line) {
  const std::vector<Eigen::Vector2d>& p = line.places;
  if (p.size() < 3) return;
  std::vector<bool> keep(p.size(), false);
  keep.front() = keep.back() = true;
  std::vector<std::pair<std::size_t, std::size_t>> open;
  if (line.closed()) {
    const std::size_t third = p.size() / 3;  // a ring keeps three corners, and is one
    keep[third] = keep[2 * third] = true;
    open = {{0, third}, {third, 2 * third}, {2 * third, p.size() - 1}};
  } else {
    open = {{0, p.size() - 1}};
  }
  while (!open.empty()) {
    const auto [first, last] = open.back();
    open.pop_back();
    if (last < first + 2) continue;
    std::size_t worst = first + 1;
    double far = -1;
    for (std::size_t i = first + 1; i < last; ++i)
      if (const double d = off_piece(p[i], p[first], p[last]); d > far) far = d, worst = i;
    if (far <= tolerance && stays_level(s, p[first], p[last], line.height, most)) continue;
    if (far <= 1e-9) worst = (first + last) / 2;
    keep[worst] = true;
    open.emplace_back(first, worst), open.emplace_back(worst, last);
  }
  std::vector<Eigen::Vector2d> kept;
  for (std::size_t i = 0; i < p.size(); ++i)
    if (keep[i]) kept.push_back(p[i]);
  line.places = std::move(kept);
}

/// Places that are higher, or lower, than all within twenty cells, and stand out from these.
std::vector<Spot> spots_of(const Surface& s, const std::vector<float>& z, double interval) {
  const Grid& g = s.grid;
  constexpr int reach = 20;
  std::vector<Spot> out;
  for (int row = reach; row + reach < g.rows; ++row)
    for (int col = reach; col + reach < g.columns; ++col) {
      const float v = z[g.at(col, row)];
      if (!std::isfinite(v)) continue;
      const auto around = [&](int r, int c) { return z[g.at(col + c, row + r)]; };
      // Cheap looks first: most cells fail at the first neighbours.
      // Of cells that are equally high the first is the summit.
      const auto beyond = [&](int r, int c, bool up) {
        const float n = around(r, c);
        return up ? n > v || (n == v && (r < 0 || (r == 0 && c < 0)))
                  : n < v || (n == v && (r < 0 || (r == 0 && c < 0)));
      };
      int higher = 0, lower = 0;
      for (const auto& [c, r] : {std::pair(1, 0), {-1, 0}, {0, 1}, {0, -1}}) {
        if (!std::isfinite(around(r, c))) higher = lower = 9;
        higher += beyond(r, c, true), lower += beyond(r, c, false);
      }
      if (higher > 0 && lower > 0) continue;
      const bool summit = higher == 0;
      float nearest_rim = summit ? -INFINITY : INFINITY;
      bool stands = true;
      for (int r = -reach; r <= reach && stands; ++r)
        for (int c = -reach; c <= reach && stands; ++c) {
          const float n = around(r, c);
          if (!std::isfinite(n) || ((r != 0 || c != 0) && beyond(r, c, summit))) stands = false;
          if (std::max(std::abs(r), std::abs(c)) == reach)
            nearest_rim = summit ? std::max(nearest_rim, n) : std::min(nearest_rim, n);
        }
      if (!stands || std::abs(v - nearest_rim) < 0.1 * interval) continue;
      const Eigen::Vector2d at = g.middle(col, row);
      out.push_back({{at.x(), at.y(), s.z[g.at(col, row)]}, summit ? Spot::Kind::summit : Spot::Kind::pit});
    }
  return out;
}

/// Heights at round multiples of a step, where there is a surface.
void add_grid(const Surface& s, double step, std::vector<Spot>& spots) {
  const Grid& g = s.grid;
  const double east_end = g.west + g.columns * g.cell, south = g.north - g.rows * g.cell;
  for (double north = std::ceil(south / step) * step; north <= g.north; north += step)
    for (double east = std::ceil(g.west / step) * step; east <= east_end; east += step)
      if (const double z = s.height({east, north}); std::isfinite(z))
        spots.push_back({{east, north, z}, Spot::Kind::grid});
}

std::string word_of(Spot::Kind kind) {
  return kind == Spot::Kind::summit ? "summit" : kind == Spot::Kind::pit ? "pit" : "grid";
}

}  // namespace

Contours contours_of(const Surface& surface, const ContourOptions& options, Progress& progress) {
  if (!(options.interval > 0)) throw Error("--contours {}: the interval must be greater than 0 m", options.interval);
  const double least = options.least_length < 0 ? 20 * surface.grid.cell : options.least_length;
  Surface smooth;
  smooth.grid = surface.grid;
  smooth.z = smoothed(surface, options.smoothing, 0.5 * options.most_moved * options.interval);
  Contours out;
  const auto levels = pieces_of(surface, smooth.z, options.interval);
  progress.start("contours", levels.size());
  std::vector<std::pair<int, const std::vector<Piece>*>> list;
  for (const auto& [k, pieces] : levels) list.emplace_back(k, &pieces);
  std::vector<std::vector<Contour>> made(list.size());
  parallel_for(list.size(), [&](std::size_t i) {
    progress.check();
    const double height = list[i].first * options.interval;
    for (const Chain& chain : chains_of(surface.grid, smooth.z, *list[i].second, height))
      for (Contour& line : runs_of(chain, least)) {
        line.height = height, line.index = list[i].first % options.index_every == 0;
        simplify(smooth, 0.35 * surface.grid.cell, 0.5 * options.most_moved * options.interval, line);
        if (line.length() >= least) made[i].push_back(std::move(line));
      }
    progress.advance();
  });
  for (auto& lines : made)
    for (Contour& line : lines) out.lines.push_back(std::move(line));
  if (options.spots) out.spots = spots_of(surface, smooth.z, options.interval);
  if (options.spot_grid > 0) add_grid(surface, options.spot_grid, out.spots);
  return out;
}

void write_contours(const std::filesystem::path& path, const Surface& of, const Contours& contours) {
  VectorLayer lines{
      "contours", Feature::Shape::line, false, {{"height", 0.0}, {"kind", std::string()}, {"filled", 0}}, {}};
  const auto in_crs = [&](double z) { return z / of.metres.z(); };
  for (const Contour& line : contours.lines) {
    std::vector<Eigen::Vector3d> places;
    for (const Eigen::Vector2d& at : line.places) places.emplace_back(at.x(), at.y(), line.height);
    lines.features.push_back({Feature::Shape::line,
                              {std::move(places)},
                              {{"height", in_crs(line.height)},
                               {"kind", std::string(line.index ? "index" : "intermediate")},
                               {"filled", line.filled ? 1 : 0}},
                              line.filled  ? "CONTOUR_FILLED"
                              : line.index ? "CONTOUR_INDEX"
                                           : "CONTOUR",
                              {}});
  }
  VectorLayer spots{"spot_heights", Feature::Shape::point, false, {{"height", 0.0}, {"kind", std::string()}}, {}};
  for (const Spot& spot : contours.spots)
    spots.features.push_back({Feature::Shape::point,
                              {{spot.X}},
                              {{"height", in_crs(spot.X.z())}, {"kind", std::string(word_of(spot.kind))}},
                              "SPOT_HEIGHT",
                              fmt::format("{:.2f}", in_crs(spot.X.z()))});
  std::vector<VectorLayer> layers = {std::move(lines), std::move(spots)};
  if (path.extension() == ".dxf")  // index lines say their height
    for (const Contour& line : contours.lines)
      if (line.index) {
        const Eigen::Vector2d& at = line.places[line.places.size() / 2];
        layers[1].features.push_back({Feature::Shape::point,
                                      {{{at.x(), at.y(), line.height}}},
                                      {},
                                      "CONTOUR_LABEL",
                                      fmt::format("{:g}", in_crs(line.height))});
      }
  write_vectors(path, of, layers);
}

}  // namespace mesograph::surface
