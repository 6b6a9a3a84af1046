#pragma once

#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/surface/find_piles.hpp>
#include <mesograph/surface/volume.hpp>
#include <mesograph/survey/survey.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::stages {

struct VolumeRequest {
  std::filesystem::path surface;   ///< a height raster
  std::filesystem::path polygons;  ///< file of outlines; empty: they are found
  surface::FindOptions find;       ///< how, where they are found
  std::vector<surface::Base> bases = {surface::Base::rim_plane, surface::Base::rim_triangles,
                                      surface::Base::rim_lowest};
  double height = std::numeric_limits<double>::quiet_NaN();   ///< of Base::height, in the raster's unit
  std::filesystem::path against;                              ///< raster of Base::surface
  double density = std::numeric_limits<double>::quiet_NaN();  ///< t/m3
  bool yards = false;                                         ///< yd3 instead of m3
  std::filesystem::path out;                                  ///< volumes.csv; .gpkg and .html beside it
};

struct Pile {
  std::string id;
  std::vector<surface::Volume> volumes;  ///< one a base
  cloud::Polygon outline;                ///< m
};

struct VolumesMade {
  std::vector<std::string> files;
  std::vector<Pile> piles;
  double alike = 1, block = 0;  ///< cells; m, of the survey's block, 0 where none is known
};
Json json_of(const VolumesMade& made);

/// Volumes of all outlines over all bases, as a table, a GeoPackage with the outlines and a page. `survey`: its
/// adjusted block says what all heights have in common; null: nothing does. Throws Error where an input is wrong, or an
/// outline lies off the surface.
/// Accuracy: the sigmas it states, see surface::volumes_of. Cost: the raster in memory, a look a cell of each outline
/// and base.
VolumesMade make_volumes(const VolumeRequest& request, const survey::Survey* survey, Progress& progress);

}  // namespace mesograph::stages
