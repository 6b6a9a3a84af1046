#include <algorithm>
#include <map>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/report/adjustment_files.hpp>
#include <mesograph/stages/export.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/sight.hpp>
#include <mesograph/stages/tie_items.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/photo_list.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

NamedBlock latest_block(const Survey& survey) {
  return load_block(survey, survey.store.stage("adjust") ? "adjust" : "orient");
}

std::string ties(const Survey& survey) {
  const TieTable table = load_ties(survey);
  std::string text = "image,point,x,y\n";
  for (const TieTable::Point& p : table.points)
    for (const TieTable::Ray& r : p.rays)
      text += fmt::format("{},{},{},{}\n", csv_field(table.images[r.photo]), csv_field(p.name), csv_pixels(r.x.x()),
                          csv_pixels(r.x.y()));
  return text;
}

std::string keypoints(const Survey& survey, const std::string& only) {
  std::string text = "image,id,x,y,scale,angle\n";
  const PhotoTable photos = load_photos(survey);
  for (const Photo* p : photos.kept()) {
    if (!only.empty() && p->image != only) continue;
    const keypoint::Keypoints keys = load_keypoints(survey, *p);
    for (std::size_t i = 0; i < keys.points.size(); ++i)
      text += fmt::format("{},{},{},{},{},{}\n", csv_field(p->image), i, csv_pixels(keys.points[i].x),
                          csv_pixels(keys.points[i].y), csv_pixels(keys.points[i].scale),
                          csv_degrees(keys.points[i].angle * deg_per_rad));
  }
  return text;
}

void check_photo(const Survey& survey, const std::string& image) {
  const PhotoTable photos = load_photos(survey);
  for (const Photo& p : photos.photos) {
    if (p.image != image) continue;
    if (p.takes_part()) return;
    throw Error("export: photo '{}' takes no part, it is left out ({}); admit --keep takes it in", image,
                photo::reason_of(*p.screened_out));
  }
  throw Error("export: photo '{}' is not in this survey; export photos lists them", image);
}

std::string matches(const Survey& survey, const ExportOptions& options) {
  std::string text = "image_a,id_a,image_b,id_b\n";
  const PhotoTable photos = load_photos(survey);
  const auto kept = photos.kept();
  for (const match::PairMatches& pair : load_matches(survey)) {
    const std::string &a = kept[pair.a]->image, &b = kept[pair.b]->image;
    const bool asked = !options.pair || (a == options.pair->first && b == options.pair->second) ||
                       (b == options.pair->first && a == options.pair->second);
    if (!asked || (!options.image.empty() && a != options.image && b != options.image)) continue;
    for (const match::Match& m : pair.matches)
      text += fmt::format("{},{},{},{}\n", csv_field(a), m.a, csv_field(b), m.b);
  }
  return text;
}

/// Standard deviations of points along the grid's axes, m, from all that the last adjustment predicts.
class PointSigmas {
 public:
  PointSigmas(const Survey& survey, const NamedBlock& named)
      : block_(named.block), uncertainty_(adjusted_uncertainty(survey, named.block)) {}
  /// NaN before the first adjustment, and for a point of photos whose covariance with each other nothing asks for.
  Eigen::Vector3d of(const geo::Frame& frame, const adjust::GroundPoint& p) const {
    Eigen::Vector3d out = Eigen::Vector3d::Constant(nan);
    if (!uncertainty_) return out;
    const adjust::PointDesign design = adjust::design_of(block_, p, -1, uncertainty_->layout);
    for (const int i : design.columns)
      for (const int j : design.columns)
        if (!uncertainty_->covariance.holds(i, j)) return out;
    const Eigen::MatrixXd Q = uncertainty_->covariance.among(design.columns);
    const Eigen::Matrix3d R = frame.local_from_grid(p.X),
                          own = adjust::point_statistics(design, Eigen::Matrix3d::Zero(), Q).covariance;
    return (R.transpose() * own * R).diagonal().cwiseSqrt();
  }

 private:
  const adjust::Block& block_;
  std::optional<adjust::Uncertainty> uncertainty_;
};

/// A row of points.csv; empty for a point of fewer than two rays.
std::string point_row(const adjust::Block& block, const std::optional<geo::Frame>& frame, const PointSigmas& sigmas,
                      const std::string& name, const adjust::GroundPoint& p) {
  int rays = 0;
  double squares = 0;
  for (const adjust::Ray& r : p.rays) {
    if (!adjust::takes_part(block, r)) continue;
    if (const auto v = adjust::residual(block, r, p.X)) ++rays, squares += v->squaredNorm();
  }
  if (rays < 2) return {};
  const Eigen::Vector3d place = frame ? frame->crs_from_local(p.X) : p.X;
  const Eigen::Vector3d sigma = frame ? sigmas.of(*frame, p) : Eigen::Vector3d(Eigen::Vector3d::Constant(nan));
  return fmt::format("{},{},{},{},{},{},{},{},{}\n", csv_field(name), csv_length(place.x()), csv_length(place.y()),
                     csv_length(place.z()), rays, csv_sigma(sigma.x()), csv_sigma(sigma.y()), csv_sigma(sigma.z()),
                     csv_pixels(std::sqrt(squares / rays)));
}

/// Points that the adjustment did without, intersected from its stations: those whose rays meet within 2 pixels.
std::string other_points(const Survey& survey, const NamedBlock& named, const std::optional<geo::Frame>& frame,
                         const PointSigmas& sigmas) {
  const TieTable ties = load_ties(survey);
  std::map<std::string, int> number;
  for (std::size_t i = 0; i < named.images.size(); ++i) number[named.images[i]] = static_cast<int>(i);
  std::string text;
  for (const TieTable::Point& p : ties.points) {
    if (p.chosen) continue;
    adjust::GroundPoint point;
    for (const TieTable::Ray& r : p.rays)
      if (const auto station = number.find(ties.images[r.photo]); station != number.end())
        point.rays.push_back({station->second, r.x, r.sigma > 0 ? r.sigma : survey.settings.tie.sigma_px, true});
    if (!adjust::place(named.block, point, 0.02)) continue;
    const bool meet = std::all_of(point.rays.begin(), point.rays.end(), [&](const adjust::Ray& r) {
      const auto v = adjust::residual(named.block, r, point.X);
      return !v || v->norm() < 2.0;
    });
    if (meet) text += point_row(named.block, frame, sigmas, p.name, point);
  }
  return text;
}

std::string points(const Survey& survey) {
  const NamedBlock named = latest_block(survey);
  std::optional<geo::Frame> frame;  // a free block stands in a frame of its own
  if (!named.free) frame.emplace(survey.crs, named.origin);
  const PointSigmas sigmas(survey, named);
  std::string text =
      fmt::format("point,{},height,rays,sigma_east,sigma_north,sigma_height,rms_px\n", survey.crs.plan_columns());
  for (std::size_t i = 0; i < named.block.points.size(); ++i)
    if (named.block.points[i].X.allFinite())
      text += point_row(named.block, frame, sigmas, named.point_names[i], named.block.points[i]);
  for (const adjust::SurveyedPoint& p : named.block.surveyed)  // those that people measured and nobody surveyed
    if (p.natural && p.role != adjust::Role::off && p.point.X.allFinite())
      text += point_row(named.block, frame, sigmas, p.id, p.point);
  return text + other_points(survey, named, frame, sigmas);
}

/// Image points of the last adjustment; `item` is the name that adjust --without knows each by.
std::string residuals(const Survey& survey, const ExportOptions& options) {
  const NamedBlock named = latest_block(survey);
  struct Row {
    const std::string* name;
    const adjust::Ray* ray;
    Eigen::Vector2d v;
    double over_sigma() const { return v.norm() / ray->sigma; }
  };
  std::vector<Row> rows;
  const auto add = [&](const std::string& name, const adjust::GroundPoint& p) {
    for (const adjust::Ray& r : p.rays) {
      if (!p.X.allFinite() || !named.block.stations[r.station].oriented) continue;
      if (!options.image.empty() && named.images[r.station] != options.image) continue;
      if (options.worst && !r.accepted) continue;
      if (const auto v = adjust::residual(named.block, r, p.X)) rows.push_back({&name, &r, *v});
    }
  };
  for (std::size_t i = 0; i < named.block.points.size(); ++i) add(named.point_names[i], named.block.points[i]);
  for (const adjust::SurveyedPoint& p : named.block.surveyed) add(p.id, p.point);
  if (options.worst) {
    std::stable_sort(rows.begin(), rows.end(),
                     [](const Row& a, const Row& b) { return a.over_sigma() > b.over_sigma(); });
    rows.resize(std::min(rows.size(), static_cast<std::size_t>(*options.worst)));
  }
  std::string text = "image,point,x,y,vx,vy,accepted,sigma,over_sigma,item\n";
  for (const Row& row : rows) {
    const std::string& image = named.images[row.ray->station];
    text += fmt::format("{},{},{},{},{},{},{},{},{:.2f},{}\n", csv_field(image), csv_field(*row.name),
                        csv_pixels(row.ray->x.x()), csv_pixels(row.ray->x.y()), csv_pixels(row.v.x()),
                        csv_pixels(row.v.y()), row.ray->accepted ? 1 : 0, csv_pixels(row.ray->sigma), row.over_sigma(),
                        csv_field(*row.name + "@" + image));
  }
  return text;
}

/// As the last adjustment left them; before it, what admit knows.
std::string photos(const Survey& survey) {
  const PhotoTable table = load_photos(survey);
  return survey.store.stage("adjust") ? photos_text(table, uses_of(load_block(survey, "adjust"))) : photos_text(table);
}

/// What stands in inputs/ under a name.
std::string input(const Survey& survey, const char* name, const char* command) {
  const fs::path file = survey.inputs() / name;
  if (!fs::exists(file))
    throw Error("{}: has no {} yet; run mesograph {} first", survey.folder.string(), name, command);
  return read_file(file);
}

/// With errors once there is an adjustment, so that an export never takes the place of something richer.
std::string control(const Survey& survey) {
  if (!survey.store.stage("adjust")) return input(survey, "control.csv", "control");
  return report::points_text(survey.crs, last_adjustment(survey).points, false);
}

/// With what was found and predicted, once sight has run.
std::string sightings(const Survey& survey) {
  const auto stage = survey.store.stage("sight");
  return stage ? sightings_text(stage->result<Sighted>().table) : input(survey, "sightings.csv", "sight");
}

}  // namespace

const std::vector<std::string>& export_kinds() {
  static const std::vector<std::string> kinds = {"photos",  "stations", "cameras", "ties",      "keypoints",
                                                 "matches", "points",   "control", "sightings", "residuals"};
  return kinds;
}

ExportText export_text(const Survey& survey, const ExportOptions& options) {
  ExportText out;
  if (!options.image.empty()) check_photo(survey, options.image);
  if (options.pair) check_photo(survey, options.pair->first), check_photo(survey, options.pair->second);
  const std::string& what = options.what;
  out.file_name = what + (what == "cameras" ? ".json" : ".csv");
  if (what == "photos")
    out.text = photos(survey);
  else if (what == "stations")
    out.text = report::stations_text(survey.crs, latest_block(survey));
  else if (what == "cameras")
    out.text = report::cameras_text(latest_block(survey));
  else if (what == "ties")
    out.text = ties(survey);
  else if (what == "keypoints")
    out.text = keypoints(survey, options.image);
  else if (what == "matches")
    out.text = matches(survey, options);
  else if (what == "points")
    out.text = points(survey);
  else if (what == "control")
    out.text = control(survey);
  else if (what == "sightings")
    out.text = sightings(survey);
  else if (what == "residuals")
    out.text = residuals(survey, options);
  else
    throw UsageError("export {}: unknown; choose from {}", what, fmt::join(export_kinds(), ", "));
  const auto lines = static_cast<std::size_t>(std::count(out.text.begin(), out.text.end(), '\n'));
  out.rows = what == "cameras" ? latest_block(survey).block.cameras.size() : lines - 1;
  return out;
}

}  // namespace mesograph::stages
