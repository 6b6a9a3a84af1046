#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/cell_colour.hpp>
#include <mesograph/cloud/ground.hpp>

namespace mesograph::cloud {

namespace {

constexpr double another = 0.06;  // contrast: several times what photos make of one colour

/// Empties cells that lie far under all of their neighbours: points under the ground.
void drop_pits(HeightGrid& grid, double depth) {
  const HeightGrid found = grid;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      std::vector<double> around;
      for (int r = row - 2; r <= row + 2; ++r)
        for (int c = col - 2; c <= col + 2; ++c)
          if (grid.inside(c, r) && (c != col || r != row) && std::isfinite(found.at(c, r)))
            around.push_back(found.at(c, r));
      if (around.size() < 5) continue;
      std::nth_element(around.begin(), around.begin() + 2, around.end());  // two may be of the same pit
      if (found.at(col, row) < around[2] - depth) grid.at(col, row) = nan;
    }
}

/// Bumps that noise makes are ground.
GroundOptions for_noise(const std::vector<TilePoint>& points, GroundOptions options) {
  const double usual = usual_sigma(points);
  options.tolerance = std::max(options.tolerance, 3 * usual), options.step = std::max(options.step, 3 * usual);
  return options;
}

/// Cells whose lowest point openings that grow lower by more than bumps of the ground allow; after each of them, the
/// smallest first.
std::vector<CellMarks> standing(const HeightGrid& surface, int most, const GroundOptions& options,
                                const Progress& progress) {
  std::vector<CellMarks> out;
  CellMarks marks(surface.z.size(), 0);
  HeightGrid before = surface;
  for (int half = 1, last = 0; last < most; last = half, half = std::min(2 * half, std::max(most, half + 1))) {
    progress.check();
    const HeightGrid after = opened(before, half);
    const double allowed = options.step + options.steepest * surface.cell * (half - last);
    for (std::size_t i = 0; i < marks.size(); ++i)
      if (before.z[i] - after.z[i] > allowed) marks[i] = 1;
    out.push_back(marks);
    before = after;
  }
  return out;
}

/// The surface through what was seen and does not stand; nor lies within so many cells of what does.
HeightGrid beneath(const HeightGrid& seen, const CellMarks& stands, int margin, int most) {
  HeightGrid out = seen;
  const CellMarks left_out = grown(seen, stands, margin);
  for (std::size_t i = 0; i < left_out.size(); ++i)
    if (left_out[i]) out.z[i] = nan;
  fill_heights(out, most);
  return out;
}

/// Lets what stands go on to neighbours that lie lower than it and above the ground.
void grow_skirts(const HeightGrid& seen, double above, int most, CellMarks& stands) {
  constexpr int rounds = 3, margin = 2;
  for (int round = 0; round < rounds; ++round) {
    const HeightGrid ground = beneath(seen, stands, margin, most);
    const CellMarks before = stands;
    bool any = false;
    for (int row = 0; row < seen.rows; ++row)
      for (int col = 0; col < seen.columns; ++col) {
        const double z = seen.at(col, row);
        if (before[seen.index(col, row)] || !(z > ground.at(col, row) + above)) continue;
        for (int r = row - 1; r <= row + 1; ++r)
          for (int c = col - 1; c <= col + 1; ++c)
            if (seen.inside(c, r) && before[seen.index(c, r)] && seen.at(c, r) > z)
              stands[seen.index(col, row)] = 1, any = true;
      }
    if (!any) return;
  }
}

/// What the points of cells are like beside their heights.
struct Looks {
  std::vector<CellColour> colours;
  std::vector<float> sigma;  ///< the least sure point's, m; 0: none is known
  Looks(const std::vector<TilePoint>& points, const HeightGrid& grid)
      : colours(cell_colours(points, grid)), sigma(grid.z.size(), 0) {
    for (const TilePoint& p : points)
      if (float& s = sigma[grid.index_of(p.X)]; p.sigma > s) s = p.sigma;
  }
};

/// A group's outline, in the mean: how much further it goes down from its outermost cells over some cells than over the
/// next ones, m (nought of a patch of a slope or of the back of a ridge), and how it differs from there in colour. NaN
/// where nothing is seen around it, or no colours are known.
struct Outline {
  double edge, contrast;
};
Outline outline_of(const HeightGrid& seen, const CellMarks& stands, const Looks& looks, int step,
                   const std::vector<std::size_t>& group) {
  double sum = 0, differs = 0;
  int n = 0;
  for (const std::size_t i : group) {
    const int col = static_cast<int>(i % seen.columns), row = static_cast<int>(i / seen.columns);
    for (const auto& [dc, dr] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}}) {
      if (!seen.inside(col + 2 * step * dc, row + 2 * step * dr) || stands[seen.index(col + dc, row + dr)]) continue;
      const std::size_t near = seen.index(col + step * dc, row + step * dr),
                        far = seen.index(col + 2 * step * dc, row + 2 * step * dr);
      const double edge = seen.z[i] - 2 * seen.z[near] + seen.z[far];
      if (stands[near] || stands[far] || !std::isfinite(edge)) continue;
      sum += edge, differs += contrast(looks.colours[i], looks.colours[far]), ++n;
    }
  }
  return n > 0 ? Outline{sum / n, differs / n} : Outline{nan, nan};
}

/// Lets groups be ground that nowhere rise by so much, or by no more than what their points are sure to, or have no
/// edges: what stands ends in a step. What differs from all around in colour needs a third of one.
void drop_low(const HeightGrid& seen, const Looks& looks, const GroundOptions& options, int most, CellMarks& stands) {
  constexpr double edge = 0.5;  // m: over which a thing's side goes down
  const int step = std::max(1, static_cast<int>(std::lround(edge / seen.cell)));
  constexpr double steepest_bank = 0.35, of_height = 0.3;
  const HeightGrid ground = beneath(seen, stands, 1, most);
  for (const std::vector<std::size_t>& group : groups_of(seen, stands)) {
    double top = 0;
    std::vector<double> sigmas;
    for (const std::size_t i : group) {
      if (std::isfinite(seen.z[i])) top = std::max(top, seen.z[i] - ground.z[i]);
      if (looks.sigma[i] > 0) sigmas.push_back(looks.sigma[i]);
    }
    const double noise = sigmas.empty() ? 0 : median(std::move(sigmas));
    const Outline outline = outline_of(seen, stands, looks, step, group);
    // Banks and dams are as high as huts, but their sides are slopes.
    const double least_edge = std::max(options.tolerance, std::min(steepest_bank * step * seen.cell, of_height * top)) *
                              (outline.contrast > another ? 0.35 : 1.0);
    if (top >= std::max(1.2 * options.tolerance, noise) && !(outline.edge < least_edge)) continue;
    for (const std::size_t i : group) stands[i] = 0;
  }
}

/// What is beside what stands, where height alone hardly tells one from the other.
class Rims {
 public:
  Rims(const HeightGrid& seen, const CellMarks& stands, const Looks& looks)
      : beside_(grown(seen, stands, 1)), things_(mean_about(seen, stands, looks.colours, 1)) {
    CellMarks open = grown(seen, stands, 1);
    for (std::uint8_t& mark : open) mark = mark ? 0 : 1;
    ground_ = mean_about(seen, open, looks.colours, 3);
  }
  /// Of the tolerance that a point of the cell has.
  double share(std::size_t cell, bool above, const CellColour& colour) const {
    if (!beside_[cell]) return 1;

    if (!above || !(contrast(things_[cell], ground_[cell]) > another)) return 0.5;
    return contrast(colour, things_[cell]) < contrast(colour, ground_[cell]) ? 0.1 : 1.0;
  }

 private:
  CellMarks beside_;
  std::vector<CellColour> things_, ground_;
};

}  // namespace

double usual_sigma(const std::vector<TilePoint>& points) {
  std::vector<double> sigmas;
  const std::size_t every = 1 + points.size() / 10000;
  for (std::size_t i = 0; i < points.size(); i += every)
    if (points[i].sigma > 0) sigmas.push_back(points[i].sigma);
  return sigmas.empty() ? 0 : median(std::move(sigmas));
}

double ground_rim(const GroundOptions& options) { return 2 * options.largest; }

Terrain terrain_of(const std::vector<TilePoint>& points, const GroundOptions& asked, const Progress& progress) {
  Terrain out;
  out.words.assign(points.size(), class_other);
  if (points.empty()) return out;
  const GroundOptions options = for_noise(points, asked);
  out.tolerance = options.tolerance;
  // four points a cell, so that its lowest is ground where most is; less than 0.2 m tells nothing of what stands
  const double cell = std::max(0.2, 2 * plan_spacing(points));
  const int most = std::max(1, static_cast<int>(std::ceil(0.5 * options.largest / cell)));
  HeightGrid seen = heights_of(points, cell, most, Extreme::lowest, 1);
  progress.check();
  drop_pits(seen, std::max(options.step, 3 * options.steepest * cell));
  progress.check();
  HeightGrid whole = seen;
  fill_heights(whole, most);
  const Looks looks(points, seen);
  // What passes on its own stands, though larger windows join it to the bank that it stands on.
  CellMarks stands(seen.z.size(), 0);
  for (CellMarks& marks : standing(whole, most, options, progress)) {
    drop_low(seen, looks, options, most, marks);
    for (std::size_t i = 0; i < stands.size(); ++i) stands[i] |= marks[i];
    progress.check();
  }
  grow_skirts(seen, 0.5 * options.tolerance, most, stands);
  out.surface = beneath(seen, stands, 0, most);
  progress.check();
  const Rims rims(seen, stands, looks);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const TilePoint& p = points[i];
    const std::size_t place = seen.index_of(p.X);
    const double above = p.X.z() - height_at(out.surface, p.X), rise = rise_at(out.surface, p.X);
    const double tolerance = options.tolerance * rims.share(place, above > 0, colour_of(p.colour));
    if (above <= tolerance + 0.5 * rise && above >= -options.tolerance - rise - 0.5) out.words[i] = class_ground;
  }
  return out;
}

std::vector<std::uint8_t> ground(const std::vector<TilePoint>& points, const GroundOptions& options,
                                 const Progress& progress) {
  return terrain_of(points, options, progress).words;
}

}  // namespace mesograph::cloud
