#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/dense/cloud_accuracy.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/mesh.hpp>
#include <mesograph/stages/mesh_page.hpp>
#include <mesograph/stages/mesh_surface.hpp>
#include <mesograph/stages/mesh_texture.hpp>
#include <mesograph/stages/mesh_tiles.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using adjust::NamedBlock;
using mesh::TriangleMesh;
using survey::Survey;

namespace {

constexpr const char* mesh_version = "mesh 1";

/// Levels of detail, the model itself first.
std::vector<TriangleMesh> levels_of(TriangleMesh surface, const MeshRequest& request, double gsd, Progress& progress) {
  std::vector<TriangleMesh> out;
  mesh::SimplifyOptions options;
  // Triangles over a raster keep to the tolerance already.
  if (request.surface.empty() && (request.triangles.empty() || std::isfinite(request.tolerance))) {
    options.tolerance = std::isfinite(request.tolerance) ? request.tolerance : standard_tolerance(gsd);
    surface = mesh::simplified(surface, options, progress);
  }
  if (request.triangles.empty()) return {std::move(surface)};
  options.tolerance = nan;
  for (const std::size_t triangles : request.triangles) {
    options.triangles = triangles;
    progress.start(fmt::format("simplifying to {} triangles", triangles), 1);
    out.push_back(mesh::simplified(out.empty() ? surface : out.back(), options, progress));
    if (static_cast<double>(out.back().faces.size()) > 1.02 * static_cast<double>(triangles) + 8)
      progress.say(fmt::format("{} triangles are the fewest that keep the surface's shape; {} were asked for",
                               out.back().faces.size(), triangles));
  }
  return out;
}

/// Closes a surface below. `height`: in the survey CRS; NaN: a twentieth of its extent below it.
void add_base(TriangleMesh& surface, double height, const geo::Frame& frame) {
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& X : surface.X) box.extend(X);
  double level = box.min().z() - 0.05 * box.sizes().maxCoeff();
  if (std::isfinite(height)) {
    // The base is level in the frame; over a site its middle is as high as asked.
    const Eigen::Vector3d middle = frame.crs_from_local(box.center());
    level = frame.local_from_crs({middle.x(), middle.y(), height}).z();
    if (level >= box.min().z())
      throw Error("mesh: a base at {:g} is not below the lowest place, which is at {:.2f}", height,
                  frame.crs_from_local(Eigen::Vector3d(box.center().x(), box.center().y(), box.min().z())).z());
  }
  mesh::close_with_base(surface, level);
}

/// In the survey CRS; `block`: what it adds to sigmas; null: they have it already.
mesh::Model model_of(const Survey& survey, const geo::Frame& frame, const dense::BlockVariance* block,
                     TriangleMesh mesh) {
  mesh::Model out;
  out.name = survey.settings.name, out.wkt = survey.crs.wkt;
  out.metres = {survey.crs.unit, survey.crs.unit, survey.crs.height_unit};
  for (std::size_t i = 0; i < mesh.X.size(); ++i)
    mesh.sigma[i] =
        static_cast<float>(std::sqrt(std::pow(mesh.sigma[i], 2) + (block ? block->at(mesh.X[i]) : 0)) / out.metres.z());
  mesh.X = frame.crs_from_local(mesh.X);
  out.mesh = std::move(mesh);
  return out;
}

Eigen::Vector3d shift_for(const mesh::Shift& wanted, const TriangleMesh& mesh) {
  if (wanted.kind == mesh::Shift::Kind::given) return wanted.by;
  if (wanted.kind == mesh::Shift::Kind::none) return Eigen::Vector3d::Zero();
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& X : mesh.X) box.extend(X);
  Eigen::Vector3d out = (box.center() / 100).array().round() * 100;
  out.z() = 0;  // heights are small, and people read them
  return out;
}

/// Over the area of what is measured.
double median_sigma(const TriangleMesh& mesh, const std::vector<float>& sigma) {
  std::vector<std::pair<double, double>> faces;  // sigma, area
  double area = 0;
  for (const mesh::Face& f : mesh.faces) {
    if (mesh.guessed(f)) continue;
    double sum = 0;
    for (const std::int32_t v : f) sum += sigma[static_cast<std::size_t>(v)] / 3;
    faces.emplace_back(sum, mesh.area(f));
    area += faces.back().second;
  }
  std::sort(faces.begin(), faces.end());
  double below = 0;
  for (const auto& [value, part] : faces)
    if ((below += part) >= 0.5 * area) return value;
  return nan;
}

void note_surface(const TriangleMesh& mesh, const std::vector<float>& sigma, double metres, Meshed& out) {
  double guessed = 0;
  for (const mesh::Face& f : mesh.faces) {
    out.area += mesh.area(f);
    if (mesh.guessed(f)) guessed += mesh.area(f);
  }
  out.guessed_share = out.area > 0 ? guessed / out.area : 0;
  out.sigma_median = median_sigma(mesh, sigma) * metres;
  const mesh::Flaws flaws = mesh::flaws_of(mesh);
  out.watertight = flaws.border_edges == 0 && flaws.crowded_edges == 0 && flaws.bow_ties == 0;
}

/// What says where a model is that cannot say it itself.
void write_side_file(const fs::path& file, const mesh::Model& model, const std::vector<std::string>& files) {
  const nlohmann::ordered_json json = {
      {"survey", model.name},
      {"crs", model.wkt},
      {"shift", {model.shift.x(), model.shift.y(), model.shift.z()}},
      {"words", "east, north, height = x, y, z of the files + shift (in .glb, whose y is up: x, -z, y)"},
      {"files", files}};
  write_file(file, json.dump(2) + "\n");
}

/// Writes one level in all formats.
MeshLevel write_level(const fs::path& stem, const std::vector<mesh::ModelFormat>& formats, const mesh::Model& model,
                      Progress& progress) {
  MeshLevel out;
  out.triangles = model.mesh.faces.size(), out.pages = model.texture.pages.size();
  progress.start("writing models", formats.size());
  for (const mesh::ModelFormat format : formats) {
    progress.check();
    for (const fs::path& f : mesh::write_model(fs::path(stem) += mesh::ending_of(format), format, model))
      out.files.push_back(f.string());
    progress.advance();
  }
  return out;
}

}  // namespace

std::string mesh_fingerprint(const Survey& survey, const MeshRequest& r) {
  std::string options;
  for (const double v : {r.cell, r.tolerance, r.close_holes, r.base_height, r.least_piece, r.detail}) pack(options, v);
  pack(options, r.triangles), pack(options, r.measured_only), pack(options, r.base), pack(options, r.within);
  pack(options, r.shift.kind), pack(options, r.shift.by), pack(options, r.formats), pack(options, r.textured);
  pack(options, r.page), pack(options, r.texture_page), pack(options, r.out.string());
  return survey::fingerprint({mesh_version, densified_block_print(survey), hash_bytes(options),
                              survey::hash_or_empty(r.surface), survey::hash_or_empty(r.breaklines)});
}

namespace {

/// Fewer triangles for tiles to begin with, an eighth each time, until they are few.
void add_coarser(std::vector<TriangleMesh>& levels, Progress& progress) {
  constexpr std::size_t few = 20'000, factor = 8, most = 8;
  mesh::SimplifyOptions options;
  while (levels.back().faces.size() > few && levels.size() < most) {
    options.triangles = levels.back().faces.size() / factor;
    levels.push_back(mesh::simplified(levels.back(), options, progress));
  }
}

bool wants_tiles(const MeshRequest& request) {
  return std::count(request.formats.begin(), request.formats.end(), mesh::ModelFormat::tiles3d) > 0;
}

}  // namespace

Meshed make_mesh(Survey& survey, const MeshRequest& request, Progress& progress) {
  const survey::PhotoTable photos = survey::load_photos(survey);
  const NamedBlock named = block_to_densify(survey, photos, true, progress);
  const geo::Frame frame(survey.crs, named.origin);
  const dense::BlockVariance block(named.block, adjusted_uncertainty(survey, named.block));
  Meshed out;
  TriangleMesh surface = request.surface.empty() ? surface_of_depths(survey, photos, named, request, out, progress)
                                                 : surface_of_raster(survey, named, request, out, progress);
  if (request.base) add_base(surface, request.base_height, frame);
  std::vector<TriangleMesh> levels =
      levels_of(std::move(surface), request, adjust::ground_sampling_distance(named.block), progress);
  const std::size_t asked = levels.size();
  if (wants_tiles(request)) add_coarser(levels, progress);
  const fs::path stem = request.out.empty() ? survey.results() / "mesh" : request.out;
  std::optional<Eigen::Vector3d> shift;
  std::vector<mesh::Model> for_tiles;
  for (std::size_t i = 0; i < levels.size(); ++i) {
    Textured textured;
    if (request.textured)
      textured = lay_texture(levels[i], named, photos.kept(), request.texture_page, request.detail, progress);
    if (wants_tiles(request)) {
      for_tiles.emplace_back().mesh = levels[i];
      for_tiles.back().name = survey.settings.name, for_tiles.back().wkt = survey.crs.wkt;
      for_tiles.back().texture = textured.texture;
    }
    if (i >= asked) continue;
    mesh::Model model = model_of(survey, frame, request.surface.empty() ? &block : nullptr, levels[i]);
    if (!shift) shift = shift_for(request.shift, model.mesh);
    model.shift = *shift;
    for (Eigen::Vector3d& X : model.mesh.X) X -= *shift;
    model.texture = std::move(textured.texture);
    MeshLevel level =
        write_level(i == 0 ? stem : fs::path(stem) += fmt::format("_{}", i + 1), request.formats, model, progress);
    if (request.textured) level.charts = textured.charts, level.seam_step_median = textured.seam_step_median;
    out.files.insert(out.files.end(), level.files.begin(), level.files.end());
    out.levels.push_back(std::move(level));
    if (i > 0) continue;
    out.unseen_share = request.textured ? textured.unseen_share : 0;
    note_surface(levels[i], model.mesh.sigma, model.metres.z(), out);
    for (Eigen::Index k = 0; k < 3; ++k) out.shift[static_cast<std::size_t>(k)] = model.shift[k];
    if (request.page) {
      const fs::path page = stem.parent_path() / "model.html";
      write_model_page(page, survey, named, model, progress);
      out.files.push_back(page.string());
    }
    const fs::path side = fs::path(stem) += ".json";
    write_side_file(side, model, out.files);
    out.files.push_back(side.string());
  }
  if (wants_tiles(request))
    for (const fs::path& file :
         write_tiles(stem.parent_path() / "tiles3d", survey.crs, frame, for_tiles, request.texture_page, progress))
      out.files.push_back(file.string());
  survey.store.finish("mesh", mesh_fingerprint(survey, request), out,
                      std::vector<fs::path>(out.files.begin(), out.files.end()));
  return out;
}

}  // namespace mesograph::stages
