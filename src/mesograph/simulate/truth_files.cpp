#include <fmt/format.h>

#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/simulate/truth_files.hpp>
#include <nlohmann/json.hpp>

namespace mesograph::simulate {

namespace {

/// Angles of the photogrammetric frame (x right, y up, z back) against the grid, from the graphics axes.
Eigen::Vector3d omega_phi_kappa_deg(const geo::Frame& frame, const TrueStation& s) {
  const Eigen::Matrix3d grid_from_local = frame.local_from_grid(s.C).transpose();
  const Eigen::Vector3d right = grid_from_local * s.axes.row(0).transpose();
  const Eigen::Vector3d up = -grid_from_local * s.axes.row(1).transpose();
  const Eigen::Vector3d back = -grid_from_local * s.axes.row(2).transpose();
  return Eigen::Vector3d(std::atan2(-back.y(), back.z()), std::asin(back.x()), std::atan2(-up.x(), right.x())) * 180.0 /
         M_PI;
}

}  // namespace

Eigen::Vector3d site_origin() { return {431200.0, 6822400.0, 640.0}; }

std::string TruthFiles::crs_fields(const Eigen::Vector3d& X) const {
  const Eigen::Vector3d p = frame.crs_from_local(X);
  return csv_length(p.x()) + "," + csv_length(p.y()) + "," + csv_length(p.z());
}

std::string TruthFiles::stations_text(const std::vector<TrueStation>& stations,
                                      const std::vector<TrueCamera>& cameras) const {
  std::string text = "image,sortie,camera,east,north,height,omega,phi,kappa\n";
  for (const TrueStation& s : stations) {
    const Eigen::Vector3d a = omega_phi_kappa_deg(frame, s);
    text += fmt::format("{},{},{},{},{},{},{}\n", s.image, s.sortie, cameras[s.camera].name, crs_fields(s.C),
                        csv_degrees(a.x()), csv_degrees(a.y()), csv_degrees(a.z()));
  }
  return text;
}

std::string true_cameras_text(const std::vector<TrueCamera>& cameras) {
  nlohmann::ordered_json json;
  for (const TrueCamera& c : cameras) {
    json[c.name] = {{"model", "brown"}, {"direction", "ideal_to_image"},
                    {"width", c.width}, {"height", c.height},
                    {"c", c.c},         {"x0", c.x0},
                    {"y0", c.y0},       {"k1", c.k1},
                    {"k2", c.k2},       {"k3", c.k3},
                    {"p1", c.p1},       {"p2", c.p2},
                    {"b1", 0.0},        {"b2", 0.0}};
    if (c.readout != 0) json[c.name]["readout_seconds"] = c.readout;
  }
  return json.dump(2) + "\n";
}

std::string nominal_cameras_text(const std::vector<TrueCamera>& cameras, double factor) {
  std::vector<TrueCamera> nominal;
  for (const TrueCamera& c : cameras) {
    nominal.push_back({c.name, c.model, c.serial, c.width, c.height, factor * c.c});
    nominal.back().readout = c.readout;
  }
  return true_cameras_text(nominal);
}

std::string target_name(std::size_t i) { return i < 8 ? fmt::format("K{:02d}", i + 1) : fmt::format("P{:02d}", i - 7); }

std::string survey_toml(const std::vector<TrueCamera>& cameras) {
  std::string text = fmt::format("schema = 1\n\n[survey]\nname = \"Osterlund slip\"\ncrs = \"{}\"\n", crs_code);
  for (const TrueCamera& c : cameras) {
    std::string name;
    for (const char letter : c.model) name += letter == ' ' ? '-' : static_cast<char>(std::tolower(letter));
    if (c.readout != 0) text += fmt::format("\n[camera.{}]\nreadout_seconds = {}\n", name, c.readout);
  }
  return text;
}

}  // namespace mesograph::simulate
