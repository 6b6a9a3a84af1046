#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/advise.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/report/block_figures.hpp>

namespace mesograph::report {

namespace {

std::vector<Eigen::Vector3d> intersected(const adjust::Block& block) {
  std::vector<Eigen::Vector3d> out;
  for (const adjust::GroundPoint& p : block.points)
    if (p.X.allFinite()) out.push_back(p.X);
  for (const adjust::SurveyedPoint& p : block.surveyed)
    if (p.point.X.allFinite()) out.push_back(p.point.X);
  return out;
}

double some_height(const GroundGrid& grid) {
  for (const Eigen::Vector3d& X : grid.places)
    if (X.allFinite()) return X.z();
  return 0;
}

draw::MapData map_data(const Material& source) {
  draw::MapData out;
  out.unit = source.metric({1.0, 1.0, 0.0});
  const adjust::Block& block = source.named.block;
  for (const adjust::Sortie& s : block.sorties) out.sorties.push_back(s.name);
  for (const adjust::Station& s : block.stations)
    if (s.oriented) out.stations.push_back({source.plan(s.C), static_cast<std::size_t>(s.sortie)});
  for (const PointResult& p : source.points) {
    if (!p.place.head<2>().allFinite() || p.role == adjust::Role::off) continue;
    draw::PointMark mark;
    mark.id = p.id;
    mark.place = source.metric({p.place.x(), p.place.y(), 0.0});
    mark.error = p.error;
    mark.check = p.role == adjust::Role::check;
    out.points.push_back(mark);
  }
  const std::size_t stride = std::max<std::size_t>(1, block.points.size() / 2500);  // more dots than that are grey
  for (std::size_t i = 0; i < block.points.size(); i += stride)
    if (block.points[i].X.allFinite()) out.ties.push_back(source.plan(block.points[i].X));
  return out;
}

draw::OverlapData overlap_data(const Material& source) {
  const adjust::Block& block = source.named.block;
  const GroundGrid grid = ground_grid(block, 140);
  draw::OverlapData out;
  out.unit = source.metric({1.0, 1.0, 0.0});
  out.cell = grid.cell, out.columns = grid.columns, out.rows = grid.rows;
  if (grid.places.empty()) return out;
  out.low = source.plan({grid.low.x(), grid.low.y(), some_height(grid)});
  for (const Eigen::Vector3d& X : grid.places) {
    int n = X.allFinite() ? 0 : -1;
    for (const adjust::Station& s : block.stations) {
      if (n < 0 || !s.oriented) continue;
      const auto x = adjust::image_of(block, s, X);
      n += x && camera::inside(block.cameras[s.camera], *x);
    }
    out.counts.push_back(n);
  }
  return out;
}

draw::ResidualField residual_field(const adjust::Block& block, std::size_t camera_number) {
  draw::ResidualField out;
  const camera::Camera& camera = block.cameras[camera_number];
  out.camera = camera.name, out.width = camera.width, out.height = camera.height;
  std::vector<int> n(static_cast<std::size_t>(out.columns) * out.rows, 0);
  out.mean.assign(n.size(), Eigen::Vector2d::Zero());
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays) {
      const adjust::Station& s = block.stations[ray.station];
      if (!point.X.allFinite() || !adjust::takes_part(block, ray) || s.camera != static_cast<int>(camera_number))
        continue;
      const auto v = adjust::residual(block, ray, point.X);
      const std::size_t cell = camera::cell_of(camera, ray.x, out.columns, out.rows);
      if (v) out.mean[cell] += *v, ++n[cell];
    }
  for (std::size_t i = 0; i < n.size(); ++i)
    if (n[i] < 5)  // a mean of fewer is noise, drawn as a fault of the lens
      out.mean[i].setConstant(nan);
    else
      out.mean[i] /= n[i];
  return out;
}

draw::ShiftData shift_data(const Material& source) {
  draw::ShiftData out;
  const adjust::Block& block = source.named.block;
  out.unit = source.metric({1.0, 1.0, 0.0});
  for (const adjust::Sortie& s : block.sorties) out.sorties.push_back(s.name);
  for (const adjust::Station& s : block.stations) {
    if (!s.oriented) continue;
    out.stations.push_back({source.plan(s.C), static_cast<std::size_t>(s.sortie)});
    out.shifts.push_back(source.frame.local_from_grid(s.C).transpose() * adjust::position_misclosure(block, s));
  }
  return out;
}

/// Photos and the tie points that two of them share.
draw::PairGraph graph_data(const Material& source) {
  draw::PairGraph out;
  const adjust::Block& block = source.named.block;
  for (const adjust::Sortie& s : block.sorties) out.sorties.push_back(s.name);
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300);
  std::vector<int> number(block.stations.size(), -1);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (!block.stations[i].oriented) continue;
    number[i] = static_cast<int>(out.stations.size());
    out.stations.push_back({source.plan(block.stations[i].C), static_cast<std::size_t>(block.stations[i].sortie)});
    out.images.push_back(source.named.images[i]);
    low = low.cwiseMin(out.stations.back().place);
  }
  for (draw::StationMark& s : out.stations) s.place -= low;
  constexpr int side = 8;
  std::vector<std::vector<char>> cells(out.stations.size(), std::vector<char>(side * side, 0));
  std::map<std::pair<int, int>, std::size_t> common;
  for (const adjust::GroundPoint& p : block.points) {
    if (!p.X.allFinite()) continue;
    std::vector<int> photos;
    for (const adjust::Ray& r : p.rays) {
      if (!adjust::takes_part(block, r)) continue;
      photos.push_back(number[r.station]);
      const camera::Camera& camera = block.cameras[block.stations[r.station].camera];
      cells[number[r.station]][camera::cell_of(camera, r.x, side, side)] = 1;
    }
    std::sort(photos.begin(), photos.end());
    for (std::size_t i = 0; i < photos.size(); ++i)
      for (std::size_t j = i + 1; j < photos.size(); ++j) ++common[{photos[i], photos[j]}];
  }
  for (const auto& c : cells)
    out.covered.push_back(static_cast<double>(std::count(c.begin(), c.end(), 1)) / (side * side));
  for (const auto& [pair, n] : common)
    out.links.push_back({static_cast<std::size_t>(pair.first), static_cast<std::size_t>(pair.second), n});
  // The strongest of each photo show the net; all of them are a black sheet.
  std::stable_sort(out.links.begin(), out.links.end(),
                   [](const auto& a, const auto& b) { return a.points > b.points; });
  std::vector<int> drawn(out.stations.size(), 0);
  std::erase_if(out.links, [&](const draw::PairGraph::Link& link) {
    constexpr int most = 8;
    if (drawn[link.a] >= most && drawn[link.b] >= most) return true;
    ++drawn[link.a], ++drawn[link.b];
    return false;
  });
  return out;
}

/// Residuals of tie points, and how many points have how many rays.
void count_ties(const adjust::Block& block, std::vector<double>& residuals, std::vector<std::size_t>& rays) {
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    std::size_t n = 0;
    for (const adjust::Ray& ray : point.rays) {
      const auto v = adjust::takes_part(block, ray) ? adjust::residual(block, ray, point.X) : std::nullopt;
      if (v) residuals.push_back(v->x()), residuals.push_back(v->y()), ++n;
    }
    if (n < 2) continue;
    rays.resize(std::max(rays.size(), n + 1), 0);
    ++rays[n];
  }
}

/// c r (k1 r^2 + k2 r^4 + k3 r^6) along a diagonal, and its predicted standard deviation.
draw::DistortionCurve distortion_curve(const Material& source, std::size_t camera_number) {
  const camera::Camera& camera = source.named.block.cameras[camera_number];
  const adjust::Layout& layout = source.uncertainty.layout;
  draw::DistortionCurve out;
  out.camera = camera.name;
  const double corner = std::hypot(0.5 * camera.width, 0.5 * camera.height), c = camera.interior[camera::c];
  std::vector<int> columns;
  std::vector<int> powers;
  for (std::size_t k = 0; layout.camera[camera_number] >= 0 && k < layout.free.size(); ++k)
    if (layout.free[k] >= camera::k1 && layout.free[k] <= camera::k3) {
      columns.push_back(layout.camera[camera_number] + static_cast<int>(k));
      powers.push_back(2 * static_cast<int>(layout.free[k] - camera::k1) + 3);
    }
  const Eigen::MatrixXd Q = source.uncertainty.covariance.among(columns);
  for (int i = 0; i <= 80; ++i) {
    const double r = corner * i / 80 / c;
    double shift = 0;
    for (int k = 0; k < 3; ++k) shift += camera.interior[camera::k1 + k] * std::pow(r, 2 * k + 3);
    Eigen::VectorXd by(static_cast<Eigen::Index>(columns.size()));
    for (Eigen::Index k = 0; k < by.size(); ++k) by[k] = c * std::pow(r, powers[k]);
    out.radius_px.push_back(c * r);
    out.shift_px.push_back(c * shift);
    out.sigma_px.push_back(columns.empty() ? 0.0 : std::sqrt(by.dot(Q * by)));
  }
  return out;
}

/// Height errors of checks and of control left out, over the distance from the middle of the photos.
draw::BendData bend_data(const Material& source) {
  draw::BendData out;
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  int n = 0;
  for (const adjust::Station& s : source.named.block.stations)
    if (s.oriented) middle += source.plan(s.C), ++n;
  middle /= std::max(1, n);
  // Checks by their errors, then control as if left out.
  for (const bool checks : {true, false})
    for (const PointResult& p : source.points) {
      if (checks != (p.role == adjust::Role::check) || (!checks && p.role != adjust::Role::control)) continue;
      const double error = checks ? p.error.z() : p.left_out_error.z();
      const double sigma = checks ? p.error_sigma.z() : p.left_out_sigma.z();
      if (std::isfinite(error) && std::isfinite(sigma) && p.place.head<2>().allFinite())
        out.points.push_back({(source.metric({p.place.x(), p.place.y(), 0.0}) - middle).norm(), error, sigma, checks});
    }
  return out;
}

}  // namespace

GroundGrid ground_grid(const adjust::Block& block, int cells) {
  GroundGrid out;
  const std::vector<Eigen::Vector3d> known = intersected(block);
  if (known.empty()) return out;
  // The hundredth of the points furthest out are left aside: a single wrong one must not shrink the map.
  Eigen::Vector2d high;
  for (int a = 0; a < 2; ++a) {
    std::vector<double> values;
    for (const Eigen::Vector3d& p : known) values.push_back(p[a]);
    std::sort(values.begin(), values.end());
    out.low[a] = values[values.size() / 200], high[a] = values[values.size() - 1 - values.size() / 200];
  }
  out.cell = std::max((high - out.low).maxCoeff() / cells, 1e-4);
  out.columns = static_cast<int>((high.x() - out.low.x()) / out.cell) + 1;
  out.rows = static_cast<int>((high.y() - out.low.y()) / out.cell) + 1;
  std::vector<double> sum(static_cast<std::size_t>(out.columns) * out.rows, 0.0);
  std::vector<int> n(sum.size(), 0);
  const int reach = std::max(1, cells * 8 / 140);  // cells that a tie point lends its height to
  for (const Eigen::Vector3d& p : known) {
    const int c = static_cast<int>(std::floor((p.x() - out.low.x()) / out.cell)),
              r = out.rows - 1 - static_cast<int>(std::floor((p.y() - out.low.y()) / out.cell));
    for (int i = std::max(0, r - reach); i <= std::min(out.rows - 1, r + reach); ++i)
      for (int j = std::max(0, c - reach); j <= std::min(out.columns - 1, c + reach); ++j)
        sum[static_cast<std::size_t>(i) * out.columns + j] += p.z(), ++n[static_cast<std::size_t>(i) * out.columns + j];
  }
  for (std::size_t i = 0; i < sum.size(); ++i) {
    const auto col = static_cast<double>(i % out.columns), row = static_cast<double>(i / out.columns);
    out.places.push_back(n[i] == 0 ? Eigen::Vector3d(Eigen::Vector3d::Constant(nan))
                                   : Eigen::Vector3d(out.low.x() + (col + 0.5) * out.cell,
                                                     out.low.y() + (out.rows - row - 0.5) * out.cell, sum[i] / n[i]));
  }
  return out;
}

draw::SigmaMapData sigma_data(const Material& source, const std::vector<Eigen::Vector3d>& advised) {
  const adjust::Block& block = source.named.block;
  const GroundGrid grid = ground_grid(block, 56);
  draw::SigmaMapData out;
  out.unit = source.metric({1.0, 1.0, 0.0});
  out.cell = grid.cell, out.columns = grid.columns, out.rows = grid.rows;
  out.points = map_data(source).points;
  if (grid.places.empty()) return out;
  out.low = source.plan({grid.low.x(), grid.low.y(), some_height(grid)});
  std::vector<Eigen::Vector3d> known;
  for (const Eigen::Vector3d& X : grid.places)
    if (X.allFinite()) known.push_back(X);
  const auto accuracy = adjust::ground_accuracy(block, source.uncertainty, known, adjust::usual_sigma(block));
  std::size_t next = 0;
  for (const Eigen::Vector3d& X : grid.places) {
    const bool share = !advised.empty();  // a target lowers the block's share alone
    const adjust::GroundPlace place = X.allFinite() ? accuracy[next++] : adjust::GroundPlace();
    const double variance = share ? place.of_block(2, 2) : place.covariance(2, 2);
    out.sigma.push_back(std::sqrt(variance));
  }
  if (!advised.empty()) out.what = "sigma of height, block";
  for (const Eigen::Vector3d& X : advised) out.places.push_back(source.plan(X));
  return out;
}

std::vector<Figure> map_figures(const Material& source) {
  std::vector<Figure> out;
  out.push_back({"Stations, control and checks", "Checks took no part in the adjustment.", "overview",
                 draw::overview_map(map_data(source))});
  out.push_back({"Overlap",
                 "From the adjusted orientation and the heights of the tie points, without regard to occlusion.",
                 "overlap", draw::overlap_map(overlap_data(source))});
  out.push_back({"Predicted accuracy of heights",
                 "Standard deviation that a tie point of a photo's usual quality has at each place, seen in eight "
                 "photos at most: stations, cameras, control and positions are all in it.",
                 "sigma", draw::sigma_map(sigma_data(source))});
  const draw::ShiftData shifts = shift_data(source);
  if (std::any_of(shifts.shifts.begin(), shifts.shifts.end(), [](const Eigen::Vector3d& s) { return s.allFinite(); }))
    out.push_back({"Positions on board against the adjusted stations",
                   "What is left of each after the sortie's common offset: noise has no order, a drift has.", "shifts",
                   draw::shift_map(shifts)});
  const draw::PairGraph graph = graph_data(source);
  if (!graph.links.empty())
    out.push_back({"Photos tied to each other",
                   "Each photo with the eight others that it shares most tie points with; thicker where more.",
                   "pairs_adjusted", draw::pair_graph(graph)});
  return out;
}

std::vector<Figure> point_figures(const Material& source) {
  const draw::MapData map = map_data(source);
  std::vector<Figure> out;
  if (std::none_of(map.points.begin(), map.points.end(), [](const draw::PointMark& p) { return p.error.allFinite(); }))
    return out;
  out.push_back({"Errors in plan",
                 "Control: residuals of points that took part. Checks: errors of points that did not.", "errors_plan",
                 draw::error_map(map, draw::ErrorPart::plan)});
  out.push_back({"Errors in height", "Bars upwards: the block is too high there.", "errors_height",
                 draw::error_map(map, draw::ErrorPart::height)});
  const draw::BendData bend = bend_data(source);
  if (!bend.points.empty())
    out.push_back(
        {"Heights over the distance from the middle",
         "A block that is bent like a bowl shows errors that rise or fall outwards. Control is shown as if left out.",
         "bend", draw::bend_figure(bend)});
  return out;
}

std::vector<Figure> image_figures(const Material& source) {
  const adjust::Block& block = source.named.block;
  std::vector<Figure> out;
  std::vector<double> residuals;
  std::vector<std::size_t> rays;
  count_ties(block, residuals, rays);
  if (residuals.empty()) return out;
  out.push_back({"Image residuals", "Of tie points; gross errors were set aside before.", "residuals",
                 draw::residual_histogram(residuals)});
  out.push_back(
      {"Rays of a tie point", "How many photos see the same point.", "rays_adjusted", draw::multiplicity_figure(rays)});
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    out.push_back({"Over the sensor: " + block.cameras[i].name,
                   "Mean of adjusted minus observed tie points. Order in it would show what the calibration leaves.",
                   "sensor_" + std::to_string(i + 1), draw::residual_figure(residual_field(block, i))});
  return out;
}

std::vector<Figure> camera_figures(const Material& source) {
  std::vector<Figure> out;
  for (std::size_t i = 0; i < source.named.block.cameras.size(); ++i) {
    const std::string number = std::to_string(i + 1), name = source.named.block.cameras[i].name;
    out.push_back({"Radial distortion: " + name, "Of ideal against image points, to the corner of the photo.",
                   "distortion_" + number, draw::distortion_figure(distortion_curve(source, i))});
    draw::CorrelationTable table;
    table.camera = name;
    for (const Calibration& c : source.summary.calibration) {
      if (c.camera != name) continue;
      for (const CalibratedParameter& p : c.parameters) table.names.push_back(p.name);
      table.lower = c.correlations;
    }
    if (table.names.size() > 1)
      out.push_back({"Correlations: " + name,
                     "Parameters near +1 or -1 cannot be told apart by these photos; each alone then means little.",
                     "correlation_" + number, draw::correlation_figure(table)});
  }
  return out;
}

}  // namespace mesograph::report
