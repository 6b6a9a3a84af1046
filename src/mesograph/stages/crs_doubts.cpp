#include <fmt/format.h>

#include <map>
#include <mesograph/base/median.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/stages/crs_doubts.hpp>

namespace mesograph::stages {

using namespace survey;

std::string zone_doubt(const Survey& survey, const PhotoTable& photos) {
  std::vector<double> lon, lat;
  for (const Photo* p : photos.kept())
    if (p->position.head<2>().allFinite()) lon.push_back(p->position.x()), lat.push_back(p->position.y());
  if (lon.empty()) return {};
  const double x = median(lon), y = median(lat);
  const geo::AreaOfUse area = geo::area_of_use(survey.crs, x, y);
  if (area.inside) return {};
  return fmt::format(
      "the photos lie at longitude {:.3f}, latitude {:.3f}, and the survey's system {} is made for longitudes {:g} to "
      "{:g}, latitudes {:g} to {:g}: check crs in survey.toml; the UTM zone there is EPSG:{}",
      x, y, survey.crs.name, area.west, area.east, area.south, area.north, geo::utm_code(x, y));
}

std::string datum_doubt(const Survey& survey, const PhotoTable& photos) {
  if (survey.crs.local) return {};
  std::map<std::string, std::vector<double>> sigmas;
  for (const Photo* p : photos.kept())
    if (p->position.allFinite() && p->sigma_h > 0 && !p->datum_named) sigmas[p->sortie].push_back(p->sigma_h);
  for (const auto& [name, values] : sigmas) {
    const double sigma = median(values);
    if (sigma >= 0.2) continue;  // metre-level positions: a datum operation of a metre or two is fine
    const geo::DatumShift shift = geo::datum_shift_of(survey.crs);
    if (shift.accuracy >= 0 && shift.accuracy <= sigma) continue;
    return fmt::format(
        "sortie {}: its positions claim {:.3f} m, but the way from WGS 84 into the survey's datum ({}) is known to {} "
        "only; name the datum "
        "they are in, as in [sortie.{}] positions_crs = \"EPSG:4937\" in survey.toml, or --positions-crs",
        name, sigma, shift.name, shift.accuracy < 0 ? "an unknown accuracy" : fmt::format("{:g} m", shift.accuracy),
        name);
  }
  return {};
}

}  // namespace mesograph::stages
