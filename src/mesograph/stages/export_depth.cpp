#include <algorithm>
#include <cmath>
#include <limits>
#include <mesograph/base/errors.hpp>
#include <mesograph/photo/float_tif.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/depth_maps.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

/// Depth along the camera's axis and its sigma at the pixels of the photo itself, from the surface of its pinhole
/// photo.
photo::Raster<float> in_photo(const camera::Camera& camera, const dense::Pinhole& p, const dense::Confirmed& surface) {
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  photo::Raster<float> out(p.width, p.height, 2, none);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector2d x((col + 0.5) * camera.width / p.width, (row + 0.5) * camera.height / p.height);
      const auto v = camera::ray(camera, x);
      if (!v) continue;
      const Eigen::Vector3d d = p.R * *v;
      const Eigen::Vector2d at = p.project(p.C + d);
      if (!p.inside(at, 0)) continue;
      const int c = static_cast<int>(at.x()), r = static_cast<int>(at.y());
      if (surface.rays.at(c, r) == 0) continue;
      // Nearest pixels would repeat or leave out rows where distortion is taken out.
      const double pixel = surface.depth.at(c, r) / p.c;
      out.at(col, row, 0) = static_cast<float>(dense::depth_at(surface.depth, at, 3 * pixel));
      out.at(col, row, 1) = surface.sigma.at(c, r);
    }
  return out;
}

}  // namespace

void export_depth(const Survey& survey, const std::string& image, const fs::path& file) {
  const auto made = survey.store.stage("densify");
  if (!made) throw Error("export depth: densify has not run; run mesograph densify first");
  const auto last = made->result<Densified>();
  const PhotoTable photos = load_photos(survey);
  Progress quiet;
  const adjust::NamedBlock named = block_to_densify(survey, photos, true, quiet);
  DepthJob job(survey, photos, named, last.only);
  dense::CloudRequest request;
  request.level = last.level, request.min_views = 2;
  job.ask(request);
  const auto found = std::find(named.images.begin(), named.images.end(), image);
  if (found == named.images.end()) throw Error("export depth: photo '{}' is not in this survey", image);
  const int station = static_cast<int>(found - named.images.begin());
  if (!fs::exists(job.item(station)))
    throw Error("export depth: '{}' has no depth map: it has no partners, or densify is out of date", image);
  const auto witness = job.plan.witnesses();
  const LoadedMaps others = load_depths(job, witness[station]);
  dense::FuseOptions fuse;
  fuse.min_views = 2;
  const dense::MappedView own = load_depth(job, station);
  const dense::Confirmed surface = dense::confirm(own, others.list, fuse);
  const camera::Camera& camera = job.plan.block.cameras[job.plan.block.stations[station].camera];
  photo::write_tif(file, in_photo(camera, own.pinhole, surface),
                   "depth along the camera's axis and its sigma, m; NaN: none");
}

}  // namespace mesograph::stages
