#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/geo/proj_handle.hpp>

namespace mesograph::geo {

namespace {

Eigen::Vector3d transform(PJ* pj, PJ_DIRECTION direction, const Eigen::Vector3d& in, const char* what) {
  const PJ_COORD out = proj_trans(pj, direction, proj_coord(in.x(), in.y(), in.z(), 0.0));
  if (!std::isfinite(out.xyz.x) || !std::isfinite(out.xyz.y) || !std::isfinite(out.xyz.z)) {
    proj_errno_reset(pj);
    throw Error("the point {:.3f}, {:.3f}, {:.3f} lies outside the domain of the {}; check CRS and axis order", in.x(),
                in.y(), in.z(), what);
  }
  return {out.xyz.x, out.xyz.y, out.xyz.z};
}

Pj must(Pj pj, const char* what, const std::string& crs) {
  if (!pj) throw Error("PROJ has no {} for CRS {}; choose another CRS", what, crs);
  return pj;
}

Pj base_geographic_3d(PJ_CONTEXT* context, const Crs& crs) {
  const Pj projected(proj_create(context, crs.horizontal.c_str()));
  const Pj base(proj_crs_get_geodetic_crs(context, projected.get()));
  return must(Pj(proj_crs_promote_to_3D(context, nullptr, base.get())), "geographic CRS", crs.name);
}

/// Degrees lon, lat (and height) of the survey's own datum -> projected east, north.
Pj make_projection(PJ_CONTEXT* context, const Crs& crs) {
  const Pj projected(proj_create(context, crs.horizontal.c_str()));
  const Pj base(proj_crs_get_geodetic_crs(context, projected.get()));
  const Pj raw(proj_create_crs_to_crs_from_pj(context, base.get(), projected.get(), nullptr, nullptr));
  return must(Pj(proj_normalize_for_visualization(context, raw.get())), "projection", crs.name);
}

/// Degrees lon, lat and 0 -> the geoid's height N.
Pj make_geoid(PJ_CONTEXT* context, const Crs& crs) {
  if (crs.heights != Heights::grid) return nullptr;
  const std::string pipeline =
      "+proj=pipeline +step +proj=unitconvert +xy_in=deg +xy_out=rad +step +proj=vgridshift +multiplier=1 +grids=" +
      crs.geoid_grid;
  Pj pj(proj_create(context, pipeline.c_str()));
  if (!pj)
    throw Error("the geoid grid {} cannot be read; name another with geoid, or take heights = \"plain\"",
                crs.geoid_grid);
  return pj;
}

/// Survey CRS with ellipsoidal heights <-> degrees lon, lat and ellipsoidal height, in the survey's own datum.
struct Grid {
  Pj projection;
  Pj geoid;
  double height_unit;
  bool north_first;

  Grid(PJ_CONTEXT* context, const Crs& crs)
      : projection(make_projection(context, crs)),
        geoid(make_geoid(context, crs)),
        height_unit(crs.height_unit),
        north_first(crs.north_first) {}

  /// Between our order of plan coordinates, along east before along north, and PROJ's; its own inverse.
  Eigen::Vector3d ordered(const Eigen::Vector3d& p) const {
    return north_first ? Eigen::Vector3d(p.y(), p.x(), p.z()) : p;
  }

  double geoid_height(const Eigen::Vector3d& geographic) const {
    if (!geoid) return 0.0;
    return transform(geoid.get(), PJ_FWD, {geographic.x(), geographic.y(), 0.0}, "geoid grid").z();
  }
  Eigen::Vector3d geographic_from_crs(const Eigen::Vector3d& point) const {
    Eigen::Vector3d geographic =
        transform(projection.get(), PJ_INV, ordered({point.x(), point.y(), 0.0}), "projection");
    geographic.z() = height_unit * point.z() + geoid_height(geographic);
    return geographic;
  }
  Eigen::Vector3d crs_from_geographic(const Eigen::Vector3d& geographic) const {
    Eigen::Vector3d point =
        ordered(transform(projection.get(), PJ_FWD, {geographic.x(), geographic.y(), 0.0}, "projection"));
    point.z() = (geographic.z() - geoid_height(geographic)) / height_unit;
    return point;
  }
};

/// Degrees lon, lat and ellipsoidal height -> topocentric at the origin.
Pj make_topocentric(PJ_CONTEXT* context, double a, double rf, const Eigen::Vector3d& origin) {
  const std::string ellipsoid = rf > 0 ? fmt::format("+a={:.17g} +rf={:.17g}", a, rf) : fmt::format("+R={:.17g}", a);
  const std::string pipeline = fmt::format(
      "+proj=pipeline +step +proj=unitconvert +xy_in=deg +xy_out=rad +step +proj=cart {} +step +proj=topocentric {} "
      "+lon_0={:.17g} +lat_0={:.17g} +h_0={:.17g}",
      ellipsoid, ellipsoid, origin.x(), origin.y(), origin.z());
  return must(Pj(proj_create(context, pipeline.c_str())), "topocentric frame", "the survey");
}

/// One datum -> another, both as lon, lat, h; the operation of best stated accuracy, never a ballpark one.
Pj make_datum_shift(PJ_CONTEXT* context, const Pj& source, const Pj& own, const std::string& name, DatumShift* shift) {
  const auto factory = proj_create_operation_factory_context(context, nullptr);
  proj_operation_factory_context_set_allow_ballpark_transformations(context, factory, 0);
  proj_operation_factory_context_set_spatial_criterion(context, factory, PROJ_SPATIAL_CRITERION_PARTIAL_INTERSECTION);
  const PjList operations(proj_create_operations(context, source.get(), own.get(), factory));
  proj_operation_factory_context_destroy(factory);
  Pj best;
  double best_accuracy = 1e9;
  for (int i = 0; operations && i < proj_list_get_count(operations.get()); ++i) {
    Pj operation(proj_list_get(context, operations.get(), i));
    if (!proj_coordoperation_is_instantiable(context, operation.get())) continue;
    const double accuracy = proj_coordoperation_get_accuracy(context, operation.get());
    const double rank = accuracy < 0 ? 1e6 : accuracy;
    if (rank >= best_accuracy) continue;
    best_accuracy = rank;
    if (shift) *shift = {proj_get_name(operation.get()), accuracy};
    best = std::move(operation);
  }
  best = must(std::move(best), "datum operation", name);
  return must(Pj(proj_normalize_for_visualization(context, best.get())), "datum operation", name);
}
/// WGS 84 -> another datum.
Pj make_datum_shift(PJ_CONTEXT* context, const Pj& own, const std::string& name, DatumShift* shift) {
  return make_datum_shift(context, Pj(proj_create(context, "EPSG:4979")), own, name, shift);
}
Pj make_datum_shift(PJ_CONTEXT* context, const Crs& crs, DatumShift* shift) {
  return make_datum_shift(context, base_geographic_3d(context, crs), crs.name, shift);
}

}  // namespace

struct Frame::Operations {
  Context context = make_context();
  std::unique_ptr<Grid> grid;
  Pj topocentric;
  Pj datum_shift;
};

Frame::Frame(const Crs& crs, const Eigen::Vector3d& origin)
    : crs_(crs), origin_(origin), operations_(std::make_unique<Operations>()) {
  Operations& ops = *operations_;
  if (crs.local) {
    ops.topocentric = make_topocentric(ops.context.get(), 6378137.0, 298.257223563, origin);
    return;
  }
  ops.grid = std::make_unique<Grid>(ops.context.get(), crs);
  ops.topocentric = make_topocentric(ops.context.get(), crs.semi_major_axis, crs.inverse_flattening,
                                     ops.grid->geographic_from_crs(origin));
  ops.datum_shift = make_datum_shift(ops.context.get(), crs, nullptr);
}

Frame::~Frame() = default;
Frame::Frame(Frame&&) noexcept = default;

Eigen::Vector3d Frame::local_from_crs(const Eigen::Vector3d& point) const {
  if (crs_.local) return point;
  return transform(operations_->topocentric.get(), PJ_FWD, operations_->grid->geographic_from_crs(point),
                   "local frame");
}

Eigen::Vector3d Frame::crs_from_local(const Eigen::Vector3d& X) const {
  if (crs_.local) return X;
  return operations_->grid->crs_from_geographic(transform(operations_->topocentric.get(), PJ_INV, X, "local frame"));
}

std::vector<Eigen::Vector3d> Frame::crs_from_local(const std::vector<Eigen::Vector3d>& X) const {
  if (crs_.local) return X;
  std::vector<Eigen::Vector3d> out;
  out.reserve(X.size());
  constexpr std::size_t worth = 50;
  if (X.size() < worth) {
    for (const Eigen::Vector3d& p : X) out.push_back(crs_from_local(p));
    return out;
  }
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& p : X) box.extend(p);
  const WayOverBox way(box.min(), box.max(), [&](const Eigen::Vector3d& p) { return crs_from_local(p); });
  for (const Eigen::Vector3d& p : X) out.push_back(way(p));
  return out;
}

Eigen::Vector3d Frame::local_from_wgs84(const Eigen::Vector3d& lon_lat_h) const {
  const Operations& ops = *operations_;
  if (crs_.local) return transform(ops.topocentric.get(), PJ_FWD, lon_lat_h, "local frame");
  const Eigen::Vector3d own = transform(ops.datum_shift.get(), PJ_FWD, lon_lat_h, "datum operation");
  return transform(ops.topocentric.get(), PJ_FWD, own, "local frame");
}

Eigen::Matrix3d Frame::local_from_grid(const Eigen::Vector3d& X) const {
  if (crs_.local) return Eigen::Matrix3d::Identity();
  // Central differences over +-1 unit: grids are smooth to 1e-12 over metres, so the direction is good to 1e-9 rad.
  const Eigen::Vector3d point = crs_from_local(X);
  const auto difference = [&](int axis) {
    const Eigen::Vector3d step = Eigen::Vector3d::Unit(axis);
    return Eigen::Vector3d(local_from_crs(point + step) - local_from_crs(point - step));
  };
  const Eigen::Vector3d up = difference(2).normalized();
  const Eigen::Vector3d slanted = (crs_.south ? -1.0 : 1.0) * difference(1);
  const Eigen::Vector3d north = (slanted - up * up.dot(slanted)).normalized();
  Eigen::Matrix3d axes;
  axes << north.cross(up), north, up;
  return axes;
}

Eigen::Matrix3d Frame::local_from_enu(const Eigen::Vector3d& X) const {
  if (crs_.local) return Eigen::Matrix3d::Identity();
  PJ* pj = operations_->topocentric.get();
  const Eigen::Vector3d geographic = transform(pj, PJ_INV, X, "local frame");
  const auto difference = [&](int axis, double step) {
    const Eigen::Vector3d d = step * Eigen::Vector3d::Unit(axis);
    return Eigen::Vector3d(transform(pj, PJ_FWD, geographic + d, "local frame") -
                           transform(pj, PJ_FWD, geographic - d, "local frame"));
  };
  const Eigen::Vector3d up = difference(2, 1.0).normalized(), along = difference(1, 1e-5);
  const Eigen::Vector3d north = (along - up * up.dot(along)).normalized();
  Eigen::Matrix3d axes;
  axes << north.cross(up), north, up;
  return axes;
}

Eigen::Vector3d crs_from_wgs84(const Crs& crs, const Eigen::Vector3d& lon_lat_h, DatumShift* shift) {
  const Context context = make_context();
  const Pj datum_shift = make_datum_shift(context.get(), crs, shift);
  const Grid grid(context.get(), crs);
  return grid.crs_from_geographic(transform(datum_shift.get(), PJ_FWD, lon_lat_h, "datum operation"));
}

Eigen::Vector3d wgs84_from_crs(const Crs& crs, const Eigen::Vector3d& point) {
  const Context context = make_context();
  const Pj datum_shift = make_datum_shift(context.get(), crs, nullptr);
  const Grid grid(context.get(), crs);
  return transform(datum_shift.get(), PJ_INV, grid.geographic_from_crs(point), "datum operation");
}

DatumShift datum_shift_of(const Crs& crs) {
  DatumShift out;
  const Context context = make_context();
  make_datum_shift(context.get(), crs, &out);
  return out;
}

std::vector<Eigen::Vector3d> wgs84_from(const std::string& crs, const std::vector<Eigen::Vector3d>& points) {
  const Context context = make_context();
  const Pj named(proj_create(context.get(), crs.c_str()));
  if (!named) throw Error("CRS '{}' of the positions is unknown; write a code, as in EPSG:4326 or EPSG:25833", crs);
  const PJ_TYPE type = proj_get_type(named.get());
  std::vector<Eigen::Vector3d> out;
  if (type == PJ_TYPE_GEOGRAPHIC_2D_CRS || type == PJ_TYPE_GEOGRAPHIC_3D_CRS) {
    const Pj full(proj_crs_promote_to_3D(context.get(), nullptr, named.get()));
    const Pj shift = make_datum_shift(context.get(), full, crs, nullptr);
    for (const Eigen::Vector3d& p : points) out.push_back(transform(shift.get(), PJ_INV, p, "datum operation"));
    return out;
  }
  return wgs84_from(resolve_of_file(crs), points);
}

std::vector<Eigen::Vector3d> wgs84_from(const Crs& crs, const std::vector<Eigen::Vector3d>& points) {
  const Context context = make_context();
  const Pj shift = make_datum_shift(context.get(), crs, nullptr);
  const Grid grid(context.get(), crs);
  std::vector<Eigen::Vector3d> out;
  for (const Eigen::Vector3d& p : points)
    out.push_back(transform(shift.get(), PJ_INV, grid.geographic_from_crs(p), "datum operation"));
  return out;
}

std::vector<Eigen::Vector3d> crs_from(const std::string& from, const Crs& to,
                                      const std::vector<Eigen::Vector3d>& points, DatumShift* shift) {
  const Context context = make_context();
  const Pj named(proj_create(context.get(), from.c_str()));
  if (!named || !proj_is_crs(named.get()))
    throw Error("CRS '{}' is not in the register; check the code, as in EPSG:4326 or EPSG:25833+5773", from);
  const PJ_TYPE type = proj_get_type(named.get());
  const bool geographic = type == PJ_TYPE_GEOGRAPHIC_2D_CRS || type == PJ_TYPE_GEOGRAPHIC_3D_CRS;
  std::unique_ptr<Grid> source;
  Pj base, geocentric;
  if (geographic) {
    base = Pj(proj_crs_promote_to_3D(context.get(), nullptr, named.get()));
  } else if (type == PJ_TYPE_GEOCENTRIC_CRS) {
    base = base_geographic_3d(context.get(), to);
    geocentric = make_datum_shift(context.get(), named, base, from, shift);
  } else {
    const Crs crs = resolve_of_file(from);
    source = std::make_unique<Grid>(context.get(), crs);
    base = base_geographic_3d(context.get(), crs);
  }
  const Pj across =
      geocentric ? nullptr : make_datum_shift(context.get(), base, base_geographic_3d(context.get(), to), from, shift);
  const Grid grid(context.get(), to);
  std::vector<Eigen::Vector3d> out;
  for (const Eigen::Vector3d& p : points) {
    const Eigen::Vector3d own = source ? source->geographic_from_crs(p) : p;
    out.push_back(grid.crs_from_geographic(
        transform(geocentric ? geocentric.get() : across.get(), PJ_FWD, own, "datum operation")));
  }
  return out;
}

double geoid_height(const Crs& crs, double lon_deg, double lat_deg) {
  const Context context = make_context();
  const Pj shift = make_datum_shift(context.get(), crs, nullptr);
  return Grid(context.get(), crs)
      .geoid_height(transform(shift.get(), PJ_FWD, {lon_deg, lat_deg, 0.0}, "datum operation"));
}

}  // namespace mesograph::geo
