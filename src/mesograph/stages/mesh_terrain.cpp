#include <fmt/format.h>

#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/height_field.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/mesh_surface.hpp>
#include <mesograph/stages/surface_in_survey.hpp>

namespace mesograph::stages {

namespace {

/// Cells whose middles lie outside what is wanted lose their heights.
void keep_within(surface::Surface& surface, const std::string& within) {
  if (within.empty()) return;
  const cloud::Region region = cloud::Region::of(within, surface.wkt);
  const surface::Grid& g = surface.grid;
  bool any = false;
  for (std::size_t i = 0; i < g.size(); ++i) {
    const Eigen::Vector2d middle = g.middle(g.column_of(i), g.row_of(i)).cwiseQuotient(surface.metres.head<2>());
    if (region.contains(middle))
      any |= std::isfinite(surface.z[i]);
    else
      surface.z[i] = std::numeric_limits<float>::quiet_NaN();
  }
  if (!any) throw Error("mesh: nothing lies within what is wanted; give a part of the surface, in the survey's CRS");
}

}  // namespace

mesh::TriangleMesh surface_of_raster(const survey::Survey& survey, const adjust::NamedBlock& named,
                                     const MeshRequest& request, Meshed& sums, Progress& progress) {
  photo::prepare_gdal();
  if (!std::filesystem::exists(request.surface))
    throw Error("{}: there is no such raster of heights; mesograph surface makes one", request.surface.string());
  surface::Surface raster = surface_in_survey(survey, request.surface, progress);
  keep_within(raster, request.within);
  mesh::HeightFieldOptions options;
  const double gsd = adjust::ground_sampling_distance(named.block);
  options.tolerance = std::isfinite(request.tolerance) ? request.tolerance : 0.5 * gsd;
  if (!request.breaklines.empty()) {
    options.breaklines = cloud::read_lines(request.breaklines, raster.wkt);
    for (auto& line : options.breaklines)
      for (Eigen::Vector2d& at : line) at = at.cwiseProduct(raster.metres.head<2>());
  }
  progress.start("laying triangles over the surface", 1);
  mesh::TriangleMesh out = mesh::height_field(raster, options);
  mesh::split_bow_ties(out);
  const geo::Frame frame(survey.crs, named.origin);
  for (Eigen::Vector3d& X : out.X) X = frame.local_from_crs(X.cwiseQuotient(raster.metres));
  sums.pieces = mesh::piece_count(out);
  sums.holes_left = mesh::rims_of(out.faces).size() - sums.pieces;
  return out;
}

}  // namespace mesograph::stages
