#include <fmt/format.h>

#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/survey/photo_list.hpp>

namespace mesograph::survey {

namespace {

std::string number(double value, int decimals) {
  return std::isfinite(value) ? fmt::format("{:.{}f}", value, decimals) : std::string();
}

std::string state_of(const Photo& photo, const PhotoUse* use) {
  if (!photo.screened_out.empty()) return "screened out";
  if (use == nullptr) return "admitted";
  return use->oriented ? "oriented" : "not oriented";
}

}  // namespace

std::string photos_text(const PhotoTable& table, const std::vector<PhotoUse>& uses) {
  std::string text =
      "image,sortie,camera,c_guessed,state,reason,value,ties,rms_px,time,longitude,latitude,height,sigma_h,sigma_v\n";
  std::size_t kept = 0;
  for (const Photo& p : table.photos) {
    const bool in = p.screened_out.empty();
    const PhotoUse* use = in && kept < uses.size() ? &uses[kept] : nullptr;
    kept += in;
    text += fmt::format(
        "{},{},{},{},{},{},{},{},{},{},{},{},{},{},{}\n", csv_field(p.image), csv_field(p.sortie), csv_field(p.camera),
        p.camera.empty()                 ? ""
        : table.camera(p.camera).guessed ? "yes"
                                         : "no",
        state_of(p, use), csv_field(p.screened_out), number(p.value, 3), use ? std::to_string(use->ties) : "",
        use ? number(use->rms_px, 4) : "", csv_field(p.metadata.time), number(p.position.x(), 9),
        number(p.position.y(), 9), number(p.position.z(), 3), number(p.sigma_h, 3), number(p.sigma_v, 3));
  }
  return text;
}

}  // namespace mesograph::survey
