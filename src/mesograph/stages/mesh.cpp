#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/dense/cloud_accuracy.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/depth_sheets.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/mesh.hpp>
#include <mesograph/stages/mesh_texture.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using adjust::NamedBlock;
using mesh::TriangleMesh;
using survey::Survey;

namespace {

constexpr const char* part_version = "mesh part 1";

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
Eigen::AlignedBox2d box_of_site(const DepthSheets& sheets) {
  Eigen::AlignedBox2d out;
  for (const int s : sheets.stations())
    if (const Eigen::AlignedBox3d& box = sheets.box(s); !box.isEmpty())
      out.extend(Eigen::AlignedBox2d(box.min().head<2>(), box.max().head<2>()));
  if (out.isEmpty()) throw Error("mesh: no depth is confirmed by a second photo; check the block's accuracy");
  return out;
}

/// The surface, square by square of the plan, from the store where it is there.
TriangleMesh find_surface(const Survey& survey, const DepthJob& job, DepthSheets& sheets, double cell,
                          Progress& progress) {
  mesh::ColumnRanges ranges(box_of_site(sheets), cell);
  progress.start("finding where surfaces lie", sheets.stations().size());
  for (const int s : sheets.stations()) {
    progress.check();
    ranges.add(*sheets(s));
    sheets.tidy();
    progress.advance();
  }
  ranges.spread();
  constexpr int side = 64;  // columns of a square
  std::vector<mesh::Columns> squares;
  for (int row = 0; row < ranges.rows() - 1; row += side)
    for (int col = 0; col < ranges.columns() - 1; col += side)
      squares.push_back({ranges.first_col() + col, ranges.first_row() + row,
                         std::min(side, ranges.columns() - 1 - col), std::min(side, ranges.rows() - 1 - row)});
  std::vector<mesh::SurfacePart> parts(squares.size());
  progress.start("laying a surface through them", squares.size());
  const std::string print = survey::fingerprint(
      {part_version, sheets.print(),
       fmt::format("{:.17g} {} {} {} {}", cell, ranges.first_col(), ranges.first_row(), ranges.columns(), ranges.rows())});
  mesh::FieldOptions options;
  options.cell = cell;
  constexpr std::size_t at_once = 64;
  std::set<fs::path> items;
  for (std::size_t begin = 0; begin < squares.size(); begin += at_once) {
    const std::size_t n = std::min(at_once, squares.size() - begin);
    parallel_for(n, [&](std::size_t i) {
      progress.check();
      const mesh::Columns& square = squares[begin + i];
      const Eigen::AlignedBox3d box = mesh::box_of(ranges, square);
      progress.advance();
      if (box.isEmpty()) return;
      const fs::path item =
          survey.store.item("mesh_parts", fmt::format("{}_{}", square.first_col, square.first_row), print);
      mesh::SurfacePart& part = parts[begin + i];
      if (fs::exists(item)) {
        part = read_packed<mesh::SurfacePart>(item, part_version);
        return;
      }
      std::vector<std::shared_ptr<const mesh::Sheet>> held;
      std::vector<const mesh::Sheet*> list;
      for (const int s : sheets.stations())
        if (!sheets.box(s).isEmpty() && sheets.box(s).intersects(box) && mesh::may_show(job.plan.pinhole(s), box))
          held.push_back(sheets(s)), list.push_back(held.back().get());
      part = mesh::surface_in(ranges, square, list, options);
      write_packed(item, part_version, part);
    });
    for (std::size_t i = begin; i < begin + n; ++i)
      items.insert(survey.store.item("mesh_parts", fmt::format("{}_{}", squares[i].first_col, squares[i].first_row), print));
    sheets.tidy();
  }
  survey.store.sweep("mesh_parts", items);
  return mesh::joined(parts);
}

mesh::Model model_of(const Survey& survey, const NamedBlock& named, TriangleMesh mesh, const mesh::Shift& wanted) {
  mesh::Model out;
  out.name = survey.settings.name, out.wkt = survey.crs.wkt;
  const geo::Frame frame(survey.crs, named.origin);
  const dense::BlockVariance block(named.block, adjusted_uncertainty(survey, named.block));
  for (std::size_t i = 0; i < mesh.X.size(); ++i)
    mesh.sigma[i] = static_cast<float>(std::sqrt(std::pow(mesh.sigma[i], 2) + block.at(mesh.X[i])));
  mesh.X = frame.crs_from_local(mesh.X);
  if (wanted.kind == mesh::Shift::Kind::given) {
    out.shift = wanted.by;
  } else if (wanted.kind == mesh::Shift::Kind::automatic) {
    Eigen::AlignedBox3d box;
    for (const Eigen::Vector3d& X : mesh.X) box.extend(X);
    out.shift = (box.center() / 100).array().round() * 100;
    out.shift.z() = 0;  // heights are small, and people read them
  }
  for (Eigen::Vector3d& X : mesh.X) X -= out.shift;
  out.mesh = std::move(mesh);
  return out;
}

}  // namespace

Meshed make_mesh(Survey& survey, const MeshRequest& asked, Progress& progress) {
  MeshRequest request = asked;
  const survey::PhotoTable photos = survey::load_photos(survey);
  const NamedBlock named = block_to_densify(survey, photos, true, progress);
  const double gsd = adjust::ground_sampling_distance(named.block);
  if (!std::isfinite(request.cell)) request.cell = 2 * gsd;
  if (!std::isfinite(request.tolerance)) request.tolerance = 0.5 * gsd;
  photo::prepare_gdal();
  DepthJob job(survey, photos, named, "");
  job.ask(maps_for(survey, request.cell, gsd));
  DepthSheets sheets(job);
  sheets.make(progress);
  TriangleMesh surface = find_surface(survey, job, sheets, request.cell, progress);
  mesh::split_bow_ties(surface);
  surface = mesh::without_loose_pieces(surface, request.least_piece);
  {
    const auto f = mesh::flaws_of(surface);
    progress.say(fmt::format("{} faces, {} crowded, {} bow ties, {} border edges, {} pieces", surface.faces.size(), f.crowded_edges, f.bow_ties, f.border_edges, f.pieces));
  }
  const mesh::HolesClosed holes = mesh::close_holes(surface, std::isfinite(request.close_holes) ? request.close_holes : 30 * request.cell, 5 * request.cell);
  {
    const auto f = mesh::flaws_of(surface);
    progress.say(fmt::format("{} closed {} left; {} faces, {} crowded, {} bow ties, {} border edges, {} pieces", holes.closed, holes.left, surface.faces.size(), f.crowded_edges, f.bow_ties, f.border_edges, f.pieces));
  }
  mesh::SimplifyOptions simplify;
  simplify.tolerance = request.tolerance;
  surface = mesh::simplified(surface, simplify, progress);
  {
    const auto f = mesh::flaws_of(surface);
    progress.say(fmt::format("{} faces, {} crowded, {} bow ties, {} border edges, {} pieces", surface.faces.size(), f.crowded_edges, f.bow_ties, f.border_edges, f.pieces));
  }
  Textured textured;
  if (request.textured) textured = lay_texture(surface, named, photos.kept(), request.page, 1, progress);
  progress.say(fmt::format("{} charts, {} pages, seams {}, unseen {}", textured.charts, textured.texture.pages.size(), textured.seam_step_median, textured.unseen_share));
  mesh::Model model = model_of(survey, named, std::move(surface), request.shift);
  model.texture = std::move(textured.texture);
  Meshed out;
  const fs::path file = request.out.empty() ? survey.results() / "mesh.glb" : request.out;
  for (const mesh::ModelFormat format : request.formats)
    for (const fs::path& f : mesh::write_model(fs::path(file).replace_extension(mesh::ending_of(format)), format, model))
      out.files.push_back(f.string());
  out.triangles.push_back(model.mesh.faces.size());
  for (Eigen::Index k = 0; k < 3; ++k) out.shift[static_cast<std::size_t>(k)] = model.shift[k];
  return out;
}

}  // namespace mesograph::stages
