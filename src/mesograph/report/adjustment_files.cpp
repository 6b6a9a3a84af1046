#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/items.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/camera/rotation.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/report/adjustment_files.hpp>

namespace mesograph::report {

std::string points_text(const geo::Crs& crs, const std::vector<PointResult>& rows, bool checks) {
  std::string text =
      fmt::format("id,{},height,role,sigma_h,sigma_v,d_east,d_north,d_height,rays,rms_px", crs.plan_columns());
  text += checks ? ",sigma_d_east,sigma_d_north,sigma_d_height\n" : "\n";
  for (const PointResult& row : rows) {
    if (checks && row.role != adjust::Role::check) continue;
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{}", csv_field(row.id), csv_length(row.place.x()),
                        csv_length(row.place.y()), csv_length(row.place.z()), word_of(row.role),
                        csv_sigma(row.sigma.x()), csv_sigma(row.sigma.z()), csv_length(row.error.x()),
                        csv_length(row.error.y()), csv_length(row.error.z()), row.rays, csv_pixels(row.rms_px));
    if (checks)
      text += fmt::format(",{},{},{}", csv_sigma(row.error_sigma.x()), csv_sigma(row.error_sigma.y()),
                          csv_sigma(row.error_sigma.z()));
    text += "\n";
  }
  return text;
}

std::string left_out_text(const std::vector<PointResult>& rows) {
  std::string text = "id,d_east,d_north,d_height,sigma_d_east,sigma_d_north,sigma_d_height,rays\n";
  for (const PointResult& row : rows) {
    if (row.role != adjust::Role::control) continue;
    text += csv_field(row.id);
    for (const double value : row.left_out_error) text += "," + csv_length(value);
    for (const double value : row.left_out_sigma) text += "," + csv_sigma(value);
    text += fmt::format(",{}\n", row.left_out_rays);
  }
  return text;
}

std::string natural_points_text(const geo::Crs& crs, const adjust::NamedBlock& named,
                                const adjust::AdjustResult& result) {
  const geo::Frame frame(crs, named.origin);
  std::string text = fmt::format("id,{},height,sigma_east,sigma_north,sigma_height,rays,rms_px\n", crs.plan_columns());
  for (std::size_t i = 0; i < result.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    const adjust::SurveyedResult& r = result.surveyed[i];
    if (!p.natural || p.role == adjust::Role::off || r.rays < 2 || !r.X.allFinite()) continue;
    const Eigen::Vector3d place = frame.crs_from_local(r.X);
    const Eigen::Matrix3d axes = frame.local_from_grid(r.X);
    const Eigen::Vector3d sigma = (axes.transpose() * r.covariance * axes).diagonal().cwiseSqrt();
    text += fmt::format("{},{},{},{},{},{},{},{},{}\n", csv_field(p.id), csv_length(place.x()), csv_length(place.y()),
                        csv_length(place.z()), csv_sigma(sigma.x()), csv_sigma(sigma.y()), csv_sigma(sigma.z()), r.rays,
                        csv_pixels(r.rms_px));
  }
  return text;
}

std::string reliability_text(const adjust::NamedBlock& named, const adjust::AdjustResult& result) {
  std::string text = "item,kind,id,image,component,unit,residual,redundancy,w,gross_error,detectable,effect\n";
  using adjust::Component, adjust::Observed;
  const auto add = [&](const std::string& item, Observed kind, const std::string& id, int station, Component component,
                       const adjust::Tested& t) {
    if (!std::isfinite(t.redundancy)) return;
    text += fmt::format("{},{},{},{},{},{},{},{:.4f},{},{},{},{}\n", csv_field(item), word_of(kind), csv_field(id),
                        station < 0 ? "" : csv_field(named.images[station]), word_of(component), adjust::unit_of(kind),
                        csv_length(t.residual), t.redundancy, csv_pixels(t.w), csv_length(t.gross),
                        csv_length(t.detectable), csv_length(t.effect));
  };
  constexpr Component axes[] = {Component::east, Component::north, Component::height},
                      of_camera[] = {Component::x, Component::y, Component::z};
  for (std::size_t i = 0; i < result.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    for (int a = 0; a < 3; ++a)
      add(p.id + (a < 2 ? ":plan" : ":height"), Observed::control, p.id, -1, axes[a],
          result.surveyed[i].coordinates[a]);
    for (std::size_t r = 0; r < result.surveyed[i].sightings.size(); ++r)
      for (int a = 0; a < 2; ++a) {
        const int station = p.point.rays[r].station;
        add(p.id + "@" + named.images[station], Observed::sighting, p.id, station, of_camera[a],
            result.surveyed[i].sightings[r][a]);
      }
  }
  for (std::size_t i = 0; i < result.scale_bars.size(); ++i)
    add("bar:" + named.block.scale_bars[i].id, Observed::scale_bar, named.block.scale_bars[i].id, -1, Component::length,
        result.scale_bars[i].test);
  for (std::size_t i = 0; i < result.positions.size(); ++i)
    for (int a = 0; a < 3; ++a)
      add("position@" + named.images[i], Observed::position, "", static_cast<int>(i), axes[a], result.positions[i][a]);
  for (std::size_t i = 0; i < result.attitudes.size(); ++i)
    for (int a = 0; a < 3; ++a) {
      adjust::Tested t = result.attitudes[i][a];
      for (double* angle : {&t.residual, &t.gross, &t.detectable, &t.effect}) *angle *= deg_per_rad;
      add("attitude@" + named.images[i], Observed::attitude, "", static_cast<int>(i), of_camera[a], t);
    }
  return text;
}

std::string cameras_text(const adjust::NamedBlock& named) {
  std::map<std::string, camera::Camera> cameras;
  for (const camera::Camera& c : named.block.cameras) cameras[c.name] = c;
  return camera::cameras_text(cameras);
}

std::string stations_text(const geo::Crs& crs, const adjust::NamedBlock& named) {
  std::optional<geo::Frame> frame;
  if (!named.free) frame.emplace(crs, named.origin);
  const bool moving = std::any_of(named.block.cameras.begin(), named.block.cameras.end(),
                                  [](const camera::Camera& c) { return c.readout_seconds != 0; });
  std::string text = fmt::format("image,sortie,camera,{},height,omega,phi,kappa,sigma_h,sigma_v,sigma_angle{}\n",
                                 crs.plan_columns(), moving ? ",v_east,v_north,v_up,turn_x,turn_y,turn_z" : "");
  for (std::size_t i = 0; i < named.images.size(); ++i) {
    const adjust::Station& s = named.block.stations[i];
    if (!s.oriented) continue;
    const Eigen::Vector3d place = frame ? frame->crs_from_local(s.C) : s.C;
    const Eigen::Matrix3d grid_from_local =
        frame ? Eigen::Matrix3d(frame->local_from_grid(s.C).transpose()) : Eigen::Matrix3d(Eigen::Matrix3d::Identity());
    const camera::OmegaPhiKappa a = camera::angles_from(grid_from_local * s.R);
    const Eigen::Matrix3d Q = grid_from_local * s.covariance * grid_from_local.transpose();
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{}", csv_field(named.images[i]),
                        csv_field(named.block.sorties[s.sortie].name), csv_field(named.block.cameras[s.camera].name),
                        csv_length(place.x()), csv_length(place.y()), csv_length(place.z()),
                        csv_degrees(a.omega * deg_per_rad), csv_degrees(a.phi * deg_per_rad),
                        csv_degrees(a.kappa * deg_per_rad), csv_sigma(std::sqrt((Q(0, 0) + Q(1, 1)) / 2)),
                        csv_sigma(std::sqrt(Q(2, 2))), csv_sigma(s.sigma_angle * deg_per_rad, 8));
    const Eigen::Vector3d v = grid_from_local * s.velocity, w = s.turning * deg_per_rad;
    if (moving)
      text += fmt::format(",{:.3f},{:.3f},{:.3f},{:.4f},{:.4f},{:.4f}", v.x(), v.y(), v.z(), w.x(), w.y(), w.z());
    text += "\n";
  }
  return text;
}

}  // namespace mesograph::report
