#include <fmt/format.h>

#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/survey/photo_list.hpp>

namespace mesograph::survey {

namespace {

std::string number(double value, int decimals) {
  return std::isfinite(value) ? fmt::format("{:.{}f}", value, decimals) : std::string();
}

std::string state_of(const Photo& photo, const PhotoUse* use) {
  if (!photo.takes_part()) return "screened out";
  if (use == nullptr) return "admitted";
  return use->oriented ? "oriented" : "not oriented";
}

}  // namespace

std::vector<PhotoUse> uses_of(const adjust::NamedBlock& named) {
  std::vector<PhotoUse> uses(named.images.size());
  std::vector<double> squares(named.images.size(), 0.0);
  for (const adjust::GroundPoint& point : named.block.points)
    for (const adjust::Ray& ray : point.rays) {
      if (!point.X.allFinite() || !adjust::takes_part(named.block, ray)) continue;
      if (const auto v = adjust::residual(named.block, ray, point.X))
        ++uses[ray.station].ties, squares[ray.station] += v->squaredNorm();
    }
  for (std::size_t i = 0; i < uses.size(); ++i) {
    uses[i].oriented = named.block.stations[i].oriented;
    if (uses[i].ties > 0) uses[i].rms_px = std::sqrt(squares[i] / uses[i].ties);
  }
  return uses;
}

std::string photos_text(const PhotoTable& table, const std::vector<PhotoUse>& uses) {
  std::string text =
      "image,sortie,camera,c_guessed,state,reason,value,ties,rms_px,time,longitude,latitude,height,sigma_h,sigma_v\n";
  std::size_t kept = 0;
  for (const Photo& p : table.photos) {
    const bool in = p.takes_part();
    const PhotoUse* use = in && kept < uses.size() ? &uses[kept] : nullptr;
    kept += in;
    text += fmt::format(
        "{},{},{},{},{},{},{},{},{},{},{},{},{},{},{}\n", csv_field(p.image), csv_field(p.sortie), csv_field(p.camera),
        p.camera.empty()                 ? ""
        : table.camera(p.camera).guessed ? "yes"
                                         : "no",
        state_of(p, use), p.takes_part() ? "" : csv_field(photo::reason_of(*p.screened_out)),
        p.takes_part() ? "" : number(p.screened_out->value, 3), use ? std::to_string(use->ties) : "",
        use ? number(use->rms_px, 4) : "", csv_field(p.metadata.time), number(p.position.x(), 9),
        number(p.position.y(), 9), number(p.position.z(), 3), number(p.sigma_h, 3), number(p.sigma_v, 3));
  }
  return text;
}

}  // namespace mesograph::survey
