#include <fmt/format.h>

#include <mesograph/stages/surface_in_survey.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/raster_file.hpp>

namespace mesograph::stages {

surface::Surface surface_in_survey(const survey::Survey& survey, const std::filesystem::path& path,
                                   Progress& progress) {
  surface::Surface read = surface::read_surface(path);
  surface::Surface like;
  like.wkt = survey.crs.wkt, like.metres = read.metres;
  if (!read.wkt.empty() && !surface::same_crs(read, like)) {
    read = surface::into_crs(read, survey.crs.wkt, path.string());
    progress.say(fmt::format("{}: brought into the survey's CRS, plan and heights", path.string()));
  }
  read.wkt = survey.crs.wkt;
  return read;
}

}  // namespace mesograph::stages
