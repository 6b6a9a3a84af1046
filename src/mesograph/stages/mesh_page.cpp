#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/model_files.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/report/model_page.hpp>
#include <mesograph/stages/mesh_page.hpp>
#include <unordered_map>

namespace mesograph::stages {

namespace {

/// Colours for vertices of a simplified model, each of the nearest vertex of the whole one in a cube about it.
std::vector<std::array<std::uint8_t, 3>> colours_near(const std::vector<Eigen::Vector3d>& X, const mesh::Model& model,
                                                      double cube) {
  const auto key = [&](const Eigen::Vector3d& at) {
    const Eigen::Vector3d k = (at / cube).array().floor();
    std::uint64_t out = 0;
    for (int axis = 0; axis < 3; ++axis)
      out = out << 21 | (static_cast<std::uint64_t>(static_cast<std::int64_t>(k[axis])) & 0x1fffff);
    return out;
  };
  std::unordered_map<std::uint64_t, std::vector<std::size_t>> cubes;
  for (std::size_t i = 0; i < model.mesh.X.size(); ++i) cubes[key(model.mesh.X[i])].push_back(i);
  const auto colours = model.colours();
  std::vector<std::array<std::uint8_t, 3>> out;
  for (const Eigen::Vector3d& at : X) {
    double nearest = std::numeric_limits<double>::infinity();
    std::array<std::uint8_t, 3> colour = {160, 160, 160};
    for (int x = -1; x <= 1; ++x)
      for (int y = -1; y <= 1; ++y)
        for (int z = -1; z <= 1; ++z) {
          const auto found = cubes.find(key(at + cube * Eigen::Vector3d(x, y, z)));
          if (found == cubes.end()) continue;
          for (const std::size_t i : found->second)
            if (const double d = (model.mesh.X[i] - at).squaredNorm(); d < nearest) nearest = d, colour = colours[i];
        }
    out.push_back(colour);
  }
  return out;
}

void add_coarse(const mesh::Model& model, report::ModelPage& page, Progress& progress) {
  constexpr std::size_t many = 300'000, few = 80'000;  // triangles: turned smoothly by a processor alone
  if (model.mesh.faces.size() <= many) return;
  mesh::SimplifyOptions options;
  options.triangles = few;
  const mesh::TriangleMesh coarse = mesh::simplified(model.mesh, options, progress);
  double area = 0;
  for (const mesh::Face& f : model.mesh.faces) area += model.mesh.area(f);
  page.coarse_colours = colours_near(coarse.X, model, 2 * std::sqrt(area / static_cast<double>(model.mesh.X.size())));
  for (const Eigen::Vector3d& X : coarse.X) page.coarse_vertices.emplace_back(X.cast<float>());
  page.coarse_faces = coarse.faces;
}

}  // namespace

void write_model_page(const std::filesystem::path& file, const survey::Survey& survey, const adjust::NamedBlock& named,
                      const mesh::Model& model, Progress& progress) {
  progress.start("writing the page", 1);
  report::ModelPage page;
  page.title = model.name, page.crs = survey.crs.name;
  page.unit = survey.crs.unit_name == "metre" ? "m" : survey.crs.unit_name;
  page.shift = model.shift, page.height_metres = model.metres.z();
  const geo::Frame frame(survey.crs, named.origin);
  // What a grid's metre is on the ground: the way over a hundred of them in the middle of the model.
  const Eigen::Vector3d middle = frame.crs_from_local(Eigen::Vector3d(Eigen::Vector3d::Zero()));
  constexpr double hundred = 100;
  page.plan_metres =
      (frame.local_from_crs(middle + hundred * Eigen::Vector3d::UnitX()) - frame.local_from_crs(middle)).norm() /
      hundred;
  mesh::Model placed = model;
  placed.shift.setZero();
  page.glb = mesh::glb_bytes(placed, false);
  add_coarse(model, page, progress);
  for (std::size_t i = 0; i < named.block.stations.size(); ++i) {
    const adjust::Station& s = named.block.stations[i];
    if (!s.oriented) continue;
    const camera::Camera& c = named.block.cameras[static_cast<std::size_t>(s.camera)];
    report::ModelPage::Photo photo;
    photo.image = named.images[i];
    photo.C = frame.crs_from_local(s.C) - model.shift;
    photo.model_from_camera = frame.local_from_grid(s.C).transpose() * s.R;
    photo.c = c.interior[camera::c], photo.width = c.width, photo.height = c.height;
    photo.x0 = 0.5 * c.width + c.interior[camera::x0], photo.y0 = 0.5 * c.height + c.interior[camera::y0];
    page.photos.push_back(std::move(photo));
  }
  write_file(file, report::model_page(page));
}

}  // namespace mesograph::stages
