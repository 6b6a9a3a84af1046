#include <cpl_error.h>
#include <ogr_spatialref.h>

#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/units.hpp>

namespace mesograph::cloud {

Units units_of(const LasHeader& header) {
  Units out;
  const std::string crs = header.crs();
  if (crs.empty()) return out;
  OGRSpatialReference system;
  CPLPushErrorHandler(CPLQuietErrorHandler);
  const bool known = system.SetFromUserInput(crs.c_str()) == OGRERR_NONE;
  CPLPopErrorHandler();
  if (!known) return out;
  if (system.IsGeographic()) {
    out.angles = true;
    return out;
  }
  const char* name = nullptr;
  const double plan = system.GetLinearUnits(&name);
  double height = plan;
  if (system.IsCompound()) height = system.GetTargetLinearUnits("VERT_CS", nullptr);
  if (!(plan > 0) || !(height > 0)) return out;
  out.metres = {plan, plan, height};
  constexpr double foot = 0.3048, us_foot = 1200.0 / 3937.0;
  const auto is = [&](double unit) { return std::abs(plan / unit - 1) < 1e-9; };  // the two feet differ by 2e-6
  out.plan = is(1) ? "m" : is(foot) ? "ft" : is(us_foot) ? "us-ft" : name ? name : "units";
  return out;
}

Eigen::Vector3d metres_of(const LasHeader& header, const std::string& what) {
  const Units units = units_of(header);
  if (units.angles)
    throw Error("{}: the cloud's coordinates are longitude and latitude; bring it into a projected grid first", what);
  return units.metres;
}

}  // namespace mesograph::cloud
