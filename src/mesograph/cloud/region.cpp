#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/region.hpp>

namespace mesograph::cloud {

void Region::add(Polygon polygon) {
  box_.extend(polygon.box());
  polygons_.push_back(std::move(polygon));
}

Region Region::of_box(const Eigen::AlignedBox2d& box) {
  Region out;
  using B = Eigen::AlignedBox2d;
  out.add({"", {{box.min(), box.corner(B::BottomRight), box.max(), box.corner(B::TopLeft)}}});
  return out;
}

Region Region::parse_box(const std::string& text) {
  double v[4];
  const char* at = text.c_str();
  for (int i = 0; i < 4; ++i) {
    char* end = nullptr;
    v[i] = std::strtod(at, &end);
    if (end == at || *end != (i < 3 ? ',' : '\0') || !std::isfinite(v[i]))
      throw UsageError("'{}' is no box; write west,south,east,north, as in 431200,6822400,431260,6822460", text);
    at = end + 1;
  }
  if (!(v[0] < v[2] && v[1] < v[3]))
    throw UsageError("the box '{}' is empty; write west,south,east,north, the smaller ones first", text);
  return of_box({Eigen::Vector2d(v[0], v[1]), Eigen::Vector2d(v[2], v[3])});
}

Region Region::of(const std::string& text, const std::string& wkt) {
  // A file may have a comma in its name: what exists is a file.
  if (text.find(',') != std::string::npos && !std::filesystem::exists(text)) return parse_box(text);
  return read(text, wkt);
}

Region Region::read(const std::filesystem::path& path, const std::string& wkt) {
  Region out;
  for (Polygon& polygon : read_polygons(path, wkt)) out.add(std::move(polygon));
  return out;
}

Region Region::turned(double degrees) const {
  const Eigen::Rotation2Dd turn(-degrees * rad_per_deg);
  Region out;
  for (Polygon polygon : polygons_) {
    for (auto& ring : polygon.rings)
      for (Eigen::Vector2d& corner : ring) corner = box_.center() + turn * (corner - box_.center());
    out.add(std::move(polygon));
  }
  return out;
}

bool Region::contains(const Eigen::Vector2d& at) const {
  if (everything()) return true;
  if (!box_.contains(at)) return false;
  return std::any_of(polygons_.begin(), polygons_.end(), [&](const Polygon& p) { return p.contains(at); });
}

}  // namespace mesograph::cloud
