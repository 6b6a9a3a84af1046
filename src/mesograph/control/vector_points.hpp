#pragma once

#include <mesograph/control/control_file.hpp>

namespace mesograph::control {

/// True for the names of GeoPackage, GeoJSON and shapefiles.
bool is_vector_file(const std::filesystem::path& path);

struct VectorPoints {
  ControlFile file;
  std::string crs;  ///< of the layer: EPSG:n, or WKT; empty: it says none
};

/// Points of the first layer of a GeoPackage, GeoJSON or shapefile, through GDAL. Fields as the columns of a text file:
/// id (or point, name, ...) is needed; height, where points have no z; role, sigma_h, sigma_v. Throws Error where the
/// file cannot be opened, holds no points, or lacks an id.
/// Exact: coordinates as the layer has them. Cost: one pass over the layer.
VectorPoints read_vector_points(const std::filesystem::path& path, const ControlFileOptions& options = {});

}  // namespace mesograph::control
