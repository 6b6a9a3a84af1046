#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/guesses.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/depth_sheets.hpp>
#include <mesograph/stages/mesh_surface.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using adjust::NamedBlock;
using mesh::TriangleMesh;
using survey::Survey;

namespace {

constexpr const char* part_version = "mesh part 7";

/// Depth maps as the last cloud was made from, so that they need not be made anew.
dense::CloudRequest maps_for(const Survey& survey, double cell, double gsd) {
  dense::CloudRequest out;
  const survey::Settings& s = survey.settings;
  const auto cloud = survey.store.stage("densify");
  const int fitting = std::clamp(static_cast<int>(std::floor(std::log2(cell / gsd * 1.001))), 0, 2);
  out.spacing = cell;
  out.level = cloud ? cloud->result<Densified>().level : s.densify.level.value_or(fitting);
  out.min_views = s.densify.min_views;
  out.max_sigma = s.densify.max_sigma.value_or(10 * gsd);
  if (!s.densify.max_sigma) out.max_sigma_parallax = 0.75;
  return out;
}

/// The part of the plan that is meshed, local frame.
Eigen::AlignedBox2d box_of_site(const DepthSheets& sheets, const std::optional<Eigen::AlignedBox2d>& wanted) {
  Eigen::AlignedBox2d out;
  for (const int s : sheets.stations())
    if (const Eigen::AlignedBox3d& box = sheets.box(s); !box.isEmpty())
      out.extend(Eigen::AlignedBox2d(box.min().head<2>(), box.max().head<2>()));
  if (out.isEmpty() && !wanted)
    throw Error("mesh: no depth is confirmed by a second photo; check the block's accuracy");
  if (wanted) out = out.intersection(*wanted);
  if (out.isEmpty())
    throw Error("mesh: nothing lies within what is wanted; give a part of the site, in the survey's CRS");
  return out;
}

mesh::ColumnRanges find_ranges(DepthSheets& sheets, const Eigen::AlignedBox2d& box, double cell, Progress& progress) {
  mesh::ColumnRanges out(box, cell);
  progress.start("finding where surfaces lie", sheets.stations().size());
  for (const int s : sheets.stations()) {
    progress.check();
    out.add(*sheets(s));
    sheets.tidy();
    progress.advance();
  }
  out.spread();
  return out;
}

/// The surface of one square of the plan.
class Squares {
 public:
  /// `thin_to`: m, to what parts are thinned.
  Squares(const Survey& survey, const DepthJob& job, DepthSheets& sheets, const mesh::ColumnRanges& ranges,
          double thin_to)
      : survey_(survey), job_(job), sheets_(sheets), ranges_(ranges), thin_to_(thin_to) {
    options_.cell = ranges.cell();
    print_ = survey::fingerprint({part_version, sheets.print(),
                                  fmt::format("{:.17g} {:.17g} {} {} {} {}", ranges.cell(), thin_to, ranges.first_col(),
                                              ranges.first_row(), ranges.columns(), ranges.rows())});
    constexpr int side = 64;  // columns
    for (int row = 0; row < ranges.rows() - 1; row += side)
      for (int col = 0; col < ranges.columns() - 1; col += side)
        squares_.push_back({ranges.first_col() + col, ranges.first_row() + row,
                            std::min(side, ranges.columns() - 1 - col), std::min(side, ranges.rows() - 1 - row)});
  }
  std::size_t size() const { return squares_.size(); }
  fs::path item(std::size_t i) const {
    return survey_.store.item("mesh_parts", fmt::format("{}_{}", squares_[i].first_col, squares_[i].first_row), print_);
  }
  mesh::SurfacePart make(std::size_t i, Progress& progress) const {
    const Eigen::AlignedBox3d box = mesh::box_of(ranges_, squares_[i]);
    if (box.isEmpty()) return {};
    if (fs::exists(item(i))) return read_packed<mesh::SurfacePart>(item(i), part_version);
    std::vector<std::shared_ptr<const mesh::Sheet>> held;
    std::vector<const mesh::Sheet*> list;
    for (const int s : sheets_.stations())
      if (!sheets_.box(s).isEmpty() && sheets_.box(s).intersects(box) && mesh::may_show(job_.plan.pinhole(s), box))
        held.push_back(sheets_(s)), list.push_back(held.back().get());
    mesh::SurfacePart out = mesh::surface_in(ranges_, squares_[i], list, options_);
    mesh::thin(out, sides_of(squares_[i]), thin_to_, progress);
    write_packed(item(i), part_version, out);
    return out;
  }

 private:
  const Survey& survey_;
  const DepthJob& job_;
  DepthSheets& sheets_;
  const mesh::ColumnRanges& ranges_;
  mesh::FieldOptions options_;
  double thin_to_;
  std::string print_;
  std::vector<mesh::Columns> squares_;

  Eigen::AlignedBox2d sides_of(const mesh::Columns& c) const {
    return {options_.cell * Eigen::Vector2d(c.first_col, c.first_row),
            options_.cell * Eigen::Vector2d(c.first_col + c.columns, c.first_row + c.rows)};
  }
};

/// To what squares are thinned before they are joined, m: half of what the whole may stray, so that both together stay
/// near it; where a number of triangles is asked for, a fiftieth of a pixel, which nobody sees.
double thinning(const MeshRequest& request, double gsd) {
  if (std::isfinite(request.tolerance)) return 0.5 * request.tolerance;
  return request.triangles.empty() ? 0.5 * standard_tolerance(gsd) : 0.02 * gsd;
}

TriangleMesh find_surface(const Survey& survey, const DepthJob& job, DepthSheets& sheets, double cell, double thin_to,
                          Progress& progress) {
  const mesh::ColumnRanges ranges = find_ranges(sheets, box_of_site(sheets, job.plan.request.box), cell, progress);
  const Squares squares(survey, job, sheets, ranges, thin_to);
  std::vector<mesh::SurfacePart> parts(squares.size());
  progress.start("laying a surface through them", squares.size());
  constexpr std::size_t at_once = 64;
  std::set<fs::path> items;
  for (std::size_t begin = 0; begin < parts.size(); begin += at_once) {
    const std::size_t n = std::min(at_once, parts.size() - begin);
    parallel_for(n, [&](std::size_t i) {
      progress.check();
      parts[begin + i] = squares.make(begin + i, progress);
      progress.advance();
    });
    for (std::size_t i = begin; i < begin + n; ++i) items.insert(squares.item(i));
    sheets.tidy();
  }
  survey.store.sweep("mesh_parts", items);
  return mesh::joined(parts);
}

/// Faces whose middle lies in the region.
TriangleMesh within(const TriangleMesh& mesh, const cloud::Region& region, const geo::Frame& frame) {
  if (region.everything()) return mesh;
  const std::vector<Eigen::Vector3d> X = frame.crs_from_local(mesh.X);
  TriangleMesh out{mesh.X, mesh.sigma, {}};
  for (const mesh::Face& f : mesh.faces) {
    const Eigen::Vector3d middle =
        (X[static_cast<std::size_t>(f[0])] + X[static_cast<std::size_t>(f[1])] + X[static_cast<std::size_t>(f[2])]) / 3;
    if (region.contains(middle.head<2>())) out.faces.push_back(f);
  }
  if (out.faces.empty())
    throw Error("mesh: nothing lies within what is wanted; give a part of the site, in the survey's CRS");
  mesh::split_bow_ties(out);
  return mesh::compacted(out);
}

}  // namespace

TriangleMesh surface_of_depths(const Survey& survey, const survey::PhotoTable& photos, const NamedBlock& named,
                               const MeshRequest& request, Meshed& sums, Progress& progress) {
  const double gsd = adjust::ground_sampling_distance(named.block);
  const double cell = std::isfinite(request.cell) ? request.cell : 2 * gsd;
  photo::prepare_gdal();
  DepthJob job(survey, photos, named, "");
  job.ask(maps_for(survey, cell, gsd));
  const cloud::Region region = job.keep_within(request.within, named.origin);
  DepthSheets sheets(job);
  sheets.make(progress);
  TriangleMesh out = find_surface(survey, job, sheets, cell, thinning(request, gsd), progress);
  mesh::split_bow_ties(out);
  out = within(out, region, geo::Frame(survey.crs, named.origin));
  progress.start("closing holes", 1);
  constexpr double holes_in_cells = 80, window_in_cells = 5;  // matching looks at seven pixels of half the size
  const mesh::HolesClosed holes = mesh::close_holes(
      out, std::isfinite(request.close_holes) ? request.close_holes : holes_in_cells * cell, window_in_cells * cell);
  sums.holes_closed = holes.closed;
  constexpr int fringe = 16, smooth = 30;  // faces, two to a cell; rounds
  out = request.measured_only ? mesh::measured_only(out) : mesh::without_fringe(out, fringe);
  mesh::smooth_guesses(out, smooth);
  mesh::settle_small_guesses(out, window_in_cells * cell);
  const std::size_t pieces = mesh::piece_count(out);
  out = mesh::without_loose_pieces(out, request.least_piece);
  sums.pieces = mesh::piece_count(out), sums.pieces_dropped = pieces - sums.pieces;
  sums.holes_left = mesh::rims_of(out.faces).size() - sums.pieces;
  return out;
}

}  // namespace mesograph::stages
