#pragma once

#include <Eigen/Core>
#include <string>

namespace mesograph::geo {

/// How heights in the survey's files are to be understood.
enum class Heights {
  grid,         ///< above the geoid; N is read from the vertical CRS's grid
  ellipsoidal,  ///< above the ellipsoid of the survey CRS
  plain,        ///< as they are: above some level surface whose slope over the site is neglected (some cm per km)
};

/// What people write to name the CRS of a survey.
struct CrsRequest {
  std::string crs;      ///< "EPSG:n", "EPSG:n+m", path of a .prj or WKT file, or "local"
  std::string heights;  ///< "", "ellipsoidal" or "plain"; needed where `crs` has no vertical part
  std::string geoid;    ///< geoid grid file to use instead of the one the register names
};

/// A survey CRS as it was understood.
struct Crs {
  bool local = false;  ///< plain metric frame without a place on Earth; of the other fields only name and wkt are set
  std::string name;    ///< "ETRS89 / UTM zone 33N + EGM96 height"
  std::string horizontal;  ///< definition of the projected part, for PROJ
  std::string wkt;         ///< WKT1 (OGC 01-009) of the whole, as LAS files and rasters carry it
  Heights heights = Heights::plain;
  std::string geoid_grid;           ///< file name of the grid where heights == grid
  double semi_major_axis = 0.0;     ///< of the survey's own datum, m
  double inverse_flattening = 0.0;  ///< 0 for a sphere
};

/// Finds and checks a survey CRS. Throws Error where it is unknown, geographic or not projected, in other units
/// than metres, with unusual axes, without word on its heights,
/// or where the geoid grid is not installed.
Crs resolve(const CrsRequest& request);

/// EPSG code of the ETRS89 (Europe) or WGS 84 UTM zone of a place; lon, lat in degrees.
int utm_code(double lon_deg, double lat_deg);

}  // namespace mesograph::geo
