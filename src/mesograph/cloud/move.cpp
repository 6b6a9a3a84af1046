#include <cpl_error.h>
#include <ogr_spatialref.h>

#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/move.hpp>
#include <mesograph/cloud/tiles.hpp>

namespace mesograph::cloud {

namespace {

constexpr std::size_t record_head = 54;

/// The vertical part of a CRS by its code in the register; empty: it has none. Without a code its whole text.
std::string vertical_of(const std::string& crs) {
  OGRSpatialReference system;
  CPLPushErrorHandler(CPLQuietErrorHandler);
  const bool known = system.SetFromUserInput(crs.c_str()) == OGRERR_NONE;
  CPLPopErrorHandler();
  if (!known || !system.IsCompound()) return {};
  const char* code = system.GetAuthorityCode("VERT_CS");
  return code ? code : crs;
}

/// GeoTIFF keys of "EPSG:n" or "EPSG:n+m".
std::string keys_of(const std::string& name, const std::string& where) {
  unsigned plan = 0, vertical = 0;
  if (std::sscanf(name.c_str(), "EPSG:%u+%u", &plan, &vertical) < 1 || plan > 32767 || vertical > 32767)
    throw Error("{}: is older than LAS 1.4 and can name a CRS by its code only; write --crs EPSG:n", where);
  Bytes out;
  const auto key = [&](std::uint16_t id, unsigned value) {
    for (const std::uint16_t v : {id, std::uint16_t{0}, std::uint16_t{1}, static_cast<std::uint16_t>(value)})
      out.put(v);
  };
  for (const std::uint16_t v :
       {std::uint16_t{1}, std::uint16_t{1}, std::uint16_t{0}, static_cast<std::uint16_t>(vertical ? 3 : 2)})
    out.put(v);
  key(1024, 1), key(3072, plan);
  if (vertical) key(4096, vertical);
  return out.str();
}

/// The header with another CRS and offset.
LasHeader header_in(const LasHeader& before, const geo::Crs& crs, const std::string& name,
                    const Eigen::Vector3d& offset, const std::string& where) {
  LasHeader out = before;
  std::erase_if(out.records, [](const LasRecord& r) { return r.user == "LASF_Projection"; });
  LasRecord own{"LASF_Projection", "coordinate system", 0, {}};
  if (out.minor >= 4)
    own.id = 2112, own.data = crs.wkt + '\0', out.encoding |= 1 << 4;
  else
    own.id = 34735, own.data = keys_of(name, where);
  if (own.data.size() > 65535) throw Error("{}: the CRS's definition is too long for a LAS file", where);
  out.records.insert(out.records.begin(), own);
  out.offset = offset;
  const std::size_t fixed = get<std::uint16_t>(before.head.data() + 94);
  Bytes records;
  for (const LasRecord& r : out.records) {
    records.put<std::uint16_t>(0);
    records.text(r.user, 16);
    records.put(r.id);
    records.put(static_cast<std::uint16_t>(r.data.size()));
    records.text(r.description, 32);
    records.text(r.data, r.data.size());
  }
  out.head = before.head.substr(0, fixed) + records.str();
  out.first_point = out.head.size();
  put_at(out.head, 6, out.encoding);
  put_at(out.head, 96, static_cast<std::uint32_t>(out.first_point));
  put_at(out.head, 100, static_cast<std::uint32_t>(out.records.size()));
  for (int a = 0; a < 3; ++a) put_at(out.head, 155 + 8 * static_cast<std::size_t>(a), offset[a]);
  return out;
}

}  // namespace

Eigen::Vector3d Movement::operator()(const Eigen::Vector3d& X) const {
  const double t = turn_deg * rad_per_deg, c = std::cos(t), s = std::sin(t);
  const Eigen::Vector3d d = X - about;
  return about + scale * Eigen::Vector3d(c * d.x() + s * d.y(), c * d.y() - s * d.x(), d.z()) + by;
}

void move_point(LasPoints& points, std::size_t i, const Movement& movement) {
  const LasHeader& h = *points.header;
  const std::size_t at = i * h.record_length;
  // A mere shift is counted in steps, so that whole steps stay whole.
  const bool shift = movement.turn_deg == 0 && movement.scale == 1;
  const Eigen::Vector3d X = shift ? Eigen::Vector3d::Zero() : movement(points.at(i));
  for (int axis = 0; axis < 3; ++axis) {
    const std::size_t place = at + 4 * static_cast<std::size_t>(axis);
    const double steps = shift ? get<std::int32_t>(points.bytes.data() + place) + movement.by[axis] / h.scale[axis]
                               : (X[axis] - h.offset[axis]) / h.scale[axis];
    put_at(points.bytes, place, step_of(steps));
  }
  const LasAttribute *east = h.attribute("normal_x"), *north = h.attribute("normal_y");
  if (movement.turn_deg == 0 || !east || !north || east->type != 9 || north->type != 9) return;
  const Movement turn{Eigen::Vector3d::Zero(), Eigen::Vector3d::Zero(), movement.turn_deg, 1};
  const Eigen::Vector3d n = turn({points.value(i, *east), points.value(i, *north), 0});
  put_at(points.bytes, at + east->at, static_cast<float>(n.x()));
  put_at(points.bytes, at + north->at, static_cast<float>(n.y()));
}

bool is_in(const LasHeader& header, const std::string& crs) {
  return header.crs() == crs ||
         header.crs() == geo::resolve({crs, crs.find('+') == std::string::npos ? "plain" : "", ""}).wkt;
}

Brought bring_into_crs(LasReader& file, const std::string& to, const std::filesystem::path& out, Progress& progress) {
  const LasHeader& h = file.header();
  const std::string where = file.path().string(), from = h.crs();
  if (from.empty()) throw Error("{}: names no coordinate system, so none leads to {}", where, to);
  const std::string before = vertical_of(from);
  const bool with_heights = to.find('+') != std::string::npos;
  if (with_heights && before.empty())
    throw Error("{}: its CRS says nothing of heights, so they cannot become those of {}; name the plan's alone", where,
                to);
  if (!with_heights && !before.empty())
    throw Error("{}: its CRS has heights of its own; name the new ones too, as in {}+{}", where, to, before);
  Brought result;
  result.heights_kept = !with_heights || to.substr(to.find('+') + 1) == before;
  // Heights that stay need no geoid: both sides are then taken as their plan alone.
  const geo::Crs wanted = geo::resolve({to, result.heights_kept ? "plain" : "", ""});
  const auto brought = [&](const std::vector<Eigen::Vector3d>& X, geo::DatumShift* shift) {
    std::vector<Eigen::Vector3d> Y = geo::crs_from(from, wanted, X, shift);
    for (std::size_t i = 0; result.heights_kept && i < X.size(); ++i) Y[i].z() = X[i].z();
    return Y;
  };
  std::vector<Eigen::Vector3d> corners;
  for (int k = 0; k < 8; ++k) corners.push_back(h.box.corner(static_cast<Eigen::AlignedBox3d::CornerType>(k)));
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& X : brought(corners, &result.shift)) box.extend(X);
  const LasHeader header = header_in(h, wanted, to, box.center().array().floor(), where);
  LasWriter writer(out, header);
  file.rewind();
  progress.start("bringing points over", file.to_read());
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    constexpr std::size_t at_once = 1 << 14;
    parallel_for((points.size() + at_once - 1) / at_once, [&](std::size_t part) {
      const std::size_t begin = part * at_once, end = std::min(points.size(), begin + at_once);
      std::vector<Eigen::Vector3d> X;
      for (std::size_t i = begin; i < end; ++i) X.push_back(points.at(i));
      X = brought(X, nullptr);
      for (std::size_t i = begin; i < end; ++i)
        for (int a = 0; a < 3; ++a)
          put_at(points.bytes, i * h.record_length + 4 * static_cast<std::size_t>(a),
                 step_of((X[i - begin][a] - header.offset[a]) / header.scale[a]));
    });
    writer.add(points.bytes.data(), points.size());
    progress.advance(points.size());
  }
  writer.finish();
  result.points = writer.points();
  return result;
}

}  // namespace mesograph::cloud
