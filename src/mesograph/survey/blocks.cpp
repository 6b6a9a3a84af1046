#include <algorithm>
#include <map>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/camera/rotation.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/listing.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;
using sight::Sighting;
using sight::SightingState;

namespace {

constexpr const char* blocks_layout = "block 12";

std::filesystem::path block_file(const Survey& survey, const std::string& stage) {
  return survey.store.folder() / ("block-" + stage);
}

Eigen::Vector3d median_of(const std::vector<Eigen::Vector3d>& points) {
  Eigen::Vector3d out;
  for (int a = 0; a < 3; ++a) {
    std::vector<double> values;
    for (const Eigen::Vector3d& p : points) values.push_back(p[a]);
    out[a] = median(values);
  }
  return out;
}

bool has_position(const Photo& p) { return p.position.allFinite(); }

std::optional<Eigen::Vector3d> find_origin(const Survey& survey, const PhotoTable& photos) {
  std::vector<Eigen::Vector3d> places;
  for (const Photo* p : photos.kept())
    if (has_position(*p)) places.push_back(p->position);
  if (!places.empty()) {
    Eigen::Vector3d m = median_of(places);
    m = {std::round(m.x() * 1000) / 1000, std::round(m.y() * 1000) / 1000, std::round(m.z())};
    return survey.crs.local ? m : geo::crs_from_wgs84(survey.crs, m);
  }
  if (survey.crs.local) return Eigen::Vector3d::Zero();
  for (const ControlRow& row : stored_control(survey.inputs()))
    if (std::isfinite(row.east) && std::isfinite(row.height)) places.push_back({row.east, row.north, row.height});
  if (places.empty())
    if (const auto listing = load_listing(survey))
      for (const auto& row : listing->rows)
        if (row.position.allFinite()) places.push_back(row.position);
  if (places.empty()) return std::nullopt;
  return Eigen::Vector3d(median_of(places).array().round());
}

/// Sigmas of a sortie's positions: as survey.toml sets them, else as the photos state them, else metre-level.
adjust::Sortie sortie_from(const Survey& survey, const std::string& name, const PhotoTable& photos,
                           const std::optional<Listing>& listing) {
  const SortieSettings& settings = survey.settings.sortie(name);
  std::vector<double> stated_h, stated_v;
  for (const Photo* p : photos.kept()) {
    if (p->sortie != name) continue;
    if (p->sigma_h > 0) stated_h.push_back(p->sigma_h);
    if (p->sigma_v > 0) stated_v.push_back(p->sigma_v);
  }
  // Elsewhere place_listed() has made a listing's sigmas those of the photos.
  if (survey.crs.local && listing)
    for (const Listing::Row& row : listing->rows)
      if (row.sortie == name && row.sigma_h > 0 && row.sigma_v > 0)
        stated_h.push_back(row.sigma_h), stated_v.push_back(row.sigma_v);
  const double stated[2] = {median(stated_h), median(stated_v)};
  // Receivers that correct by a base state centimetres; what all photos share is then of that level too.
  const bool fine = stated[0] < 0.2;
  adjust::Sortie out;
  out.name = name;
  for (int a = 0; a < 2; ++a) {
    out.sigma_photo[a] = settings.sigma_photo[a] > 0 ? settings.sigma_photo[a]
                         : stated[a] > 0             ? stated[a]
                         : a == 0                    ? 3.0
                                                     : 5.0;
    out.sigma_offset[a] = settings.sigma_sortie[a] > 0 ? settings.sigma_sortie[a]
                          : a == 0                     ? (fine ? 0.03 : 3.0)
                                                       : (fine ? 0.05 : 5.0);
  }
  // Heights that may be above another surface than the ellipsoid: the offset must be free to take up a geoid height.
  const bool reduced = settings.heights == PositionHeights::geoid && survey.crs.heights == geo::Heights::grid;
  if (settings.heights != PositionHeights::ellipsoidal && !reduced && !(settings.sigma_sortie[1] > 0))
    out.sigma_offset[1] = 100.0;
  out.lever_arm = settings.lever_arm;
  out.drifts = settings.sigma_drift[0] > 0;
  for (int a = 0; out.drifts && a < 2; ++a) out.sigma_drift[a] = settings.sigma_drift[a];
  if (settings.sigma_boresight > 0) out.sigma_boresight = settings.sigma_boresight * rad_per_deg;
  std::vector<double> times;
  for (const Photo* p : photos.kept())
    if (const double time = seconds_of(p->metadata.time); p->sortie == name && std::isfinite(time))
      times.push_back(time);
  for (const double time : times) out.mean_time += time / static_cast<double>(times.size());
  return out;
}

/// What a photo states of its own place and attitude.
void observe(const Survey& survey, const Photo& p, const std::optional<geo::Frame>& frame, adjust::Station& s) {
  s.time = seconds_of(p.metadata.time);
  if (!has_position(p)) return;
  s.position = frame->local_from_wgs84(p.position);
  const SortieSettings& settings = survey.settings.sortie(p.sortie);
  if (p.sigma_h > 0 && p.sigma_v > 0 && !(settings.sigma_photo[0] > 0))
    s.sigma_position[0] = p.sigma_h, s.sigma_position[1] = p.sigma_v;
  const photo::Metadata& m = p.metadata;
  if (survey.crs.local) return;  // north and up are not those of a local frame
  if (!(settings.sigma_attitude > 0) || !std::isfinite(m.yaw_deg + m.pitch_deg + m.roll_deg)) return;
  s.sigma_attitude = settings.sigma_attitude * rad_per_deg;
  s.attitude =
      frame->local_from_enu(s.position) *
      camera::rotation_from_yaw_pitch_roll(m.yaw_deg * rad_per_deg, m.pitch_deg * rad_per_deg, m.roll_deg * rad_per_deg,
                                           m.attitude_is_gimbal ? camera::Mount::gimbal : camera::Mount::nadir);
}

/// A table of survey.toml that names no camera would be passed over without a word.
void check_cameras(const Survey& survey, const PhotoTable& photos) {
  std::vector<std::string> known;
  for (const CameraStart& camera : photos.cameras) known.push_back(camera.name);
  for (const auto& [name, settings] : survey.settings.cameras)
    if (std::find(known.begin(), known.end(), name) == known.end())
      throw Error("{}: [camera.{}] names no camera of this survey; they are {}",
                  (survey.folder / "survey.toml").string(), name, fmt::join(known, ", "));
}

}  // namespace

void save_block(const Survey& survey, const std::string& stage, const NamedBlock& named) {
  write_packed(block_file(survey, stage), blocks_layout, named);
}

bool block_stands(const Survey& survey, const std::string& stage) {
  return fs::exists(block_file(survey, stage)) && has_layout(block_file(survey, stage), blocks_layout);
}

NamedBlock load_block(const Survey& survey, const std::string& stage) {
  if (!survey.store.stage(stage))
    throw Error("{}: {} has not run yet; run mesograph {} first", survey.folder.string(), stage, stage);
  if (!has_layout(block_file(survey, stage), blocks_layout))
    throw Error("{}: the block of {} is of another version of mesograph; run mesograph {} again",
                survey.folder.string(), stage, stage);
  return read_packed<NamedBlock>(block_file(survey, stage), blocks_layout);
}

std::optional<Eigen::Vector3d> frame_origin(const Survey& survey, const PhotoTable& photos) {
  const fs::path file = survey.inputs() / "frame.csv";
  if (fs::exists(file)) {
    const CsvTable table(file, {"east", "north", "height"});
    if (table.rows() != 1) throw Error("{}: must hold one row; delete it to begin anew", file.string());
    // Coordinates of another system are no place in this one: then the frame begins anew, and so does all that follows.
    if (const std::string& crs = table.text(0, "crs"); crs.empty() || crs == survey.settings.crs.crs)
      return Eigen::Vector3d(table.required_number(0, "east"), table.required_number(0, "north"),
                             table.required_number(0, "height"));
  }
  const auto origin = find_origin(survey, photos);
  if (!origin) return std::nullopt;
  write_file(file,
             fmt::format(
                 "# Origin of the local frame, fixed at the first orientation{}.\neast,north,height,crs\n{:.5f},{:.5f},"
                 "{:.5f},{}\n",
                 survey.crs.local ? " (longitude, latitude, height)" : "", origin->x(), origin->y(), origin->z(),
                 csv_field(survey.settings.crs.crs)));
  return frame_origin(survey, photos);
}

fs::path found_file(const Survey& survey) {
  return survey.settings.adjust.found ? survey.store.folder() / "found.csv" : fs::path();
}

std::vector<adjust::SurveyedPoint> surveyed_points(const Survey& survey, const geo::Frame& frame,
                                                   const std::vector<std::string>& images, const fs::path& found) {
  std::vector<adjust::SurveyedPoint> out;
  std::map<std::string, std::size_t> index;
  for (const ControlRow& row : stored_control(survey.inputs())) {
    adjust::SurveyedPoint p;
    p.id = row.id;
    p.role = row.role;
    const bool plan = std::isfinite(row.east), height = std::isfinite(row.height);
    // An unknown coordinate is set to the origin's; without a sigma it says nothing.
    const Eigen::Vector3d home = survey.crs.local ? Eigen::Vector3d::Zero() : frame.origin();
    p.surveyed =
        frame.local_from_crs({plan ? row.east : home.x(), plan ? row.north : home.y(), height ? row.height : home.z()});
    const double h = std::isfinite(row.sigma_h) ? row.sigma_h : survey.settings.control.sigma_h;
    const double e = std::isfinite(row.sigma_e) ? row.sigma_e : h, n = std::isfinite(row.sigma_n) ? row.sigma_n : h;
    const double v = std::isfinite(row.sigma_v) ? row.sigma_v : survey.settings.control.sigma_v;
    p.sigma = {plan ? e : nan, plan ? n : nan, height ? v : nan};
    p.axes = frame.local_from_grid(p.surveyed);
    index[p.id] = out.size();
    out.push_back(p);
  }
  std::map<std::string, int> number;
  for (std::size_t i = 0; i < images.size(); ++i) number[images[i]] = static_cast<int>(i);
  for (const Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", found)) {
    const auto image = number.find(s.image);
    if (!index.count(s.point)) {  // a natural tie point: nothing is known of its place
      adjust::SurveyedPoint natural;
      natural.id = s.point;
      natural.natural = true;
      natural.surveyed.setZero();
      index[s.point] = out.size();
      out.push_back(natural);
    }
    const auto point = index.find(s.point);
    const bool takes_part = s.state == SightingState::found || s.state == SightingState::confirmed;
    if (!takes_part || image == number.end()) continue;
    const double sigma = std::isfinite(s.sigma) ? s.sigma : survey.settings.control.sigma_px;
    out[point->second].point.rays.push_back({image->second, {s.x, s.y}, sigma, true});
  }
  return out;
}

adjust::JointControl joint_control(const Survey& survey, const std::vector<adjust::SurveyedPoint>& points) {
  const std::vector<JointRow> rows = stored_joint(survey.inputs());
  std::map<std::string, std::size_t> place;  // in the matrix
  std::set<std::string> named;
  for (const JointRow& row : rows) named.insert(row.a), named.insert(row.b);
  adjust::JointControl out;
  for (std::size_t i = 0; i < points.size(); ++i)
    if (named.count(points[i].id) && !points[i].natural)
      place[points[i].id] = out.points.size(), out.points.push_back(i);
  const std::size_t n = 3 * out.points.size();
  out.correlation.assign(n * n, 0.0);
  for (std::size_t k = 0; k < n; ++k) out.correlation[k * n + k] = 1;
  for (const JointRow& row : rows) {
    if (!place.count(row.a) || !place.count(row.b)) continue;
    const std::size_t a = 3 * place[row.a], b = 3 * place[row.b];
    for (std::size_t r = 0; r < 3; ++r)
      for (std::size_t c = 0; c < 3; ++c)
        out.correlation[(a + r) * n + b + c] = out.correlation[(b + c) * n + a + r] =
            row.correlation(static_cast<Eigen::Index>(r), static_cast<Eigen::Index>(c));
  }
  return out;
}

std::vector<adjust::ScaleBar> scale_bars(const Survey& survey, const std::vector<adjust::SurveyedPoint>& points,
                                         std::vector<std::string>& missing) {
  std::vector<adjust::ScaleBar> out;
  std::map<std::string, std::size_t> index;
  for (std::size_t i = 0; i < points.size(); ++i)
    if (points[i].role == adjust::Role::control && points[i].point.rays.size() >= 2) index[points[i].id] = i;
  for (const ScaleBarRow& row : stored_scale_bars(survey.inputs())) {
    const auto a = index.find(row.a), b = index.find(row.b);
    if (a == index.end() || b == index.end())
      missing.push_back(row.id);
    else
      out.push_back({row.id, a->second, b->second, row.length, row.sigma});
  }
  return out;
}

NamedBlock start_block(const Survey& survey, const PhotoTable& photos, const TieTable& ties, double angle_unit) {
  NamedBlock out;
  out.images = ties.images;
  std::optional<geo::Frame> frame;  // without a place nothing below needs it
  if (const auto origin = frame_origin(survey, photos)) {
    out.origin = *origin;
    frame.emplace(survey.crs, out.origin);
  }
  adjust::Block& b = out.block;
  const auto listing = load_listing(survey);
  std::map<std::string, camera::Camera> listed;
  if (listing) listed = camera::read_cameras(survey.inputs() / "cameras.json");
  std::map<std::string, int> camera_index, sortie_index;
  check_cameras(survey, photos);
  for (const Photo* p : photos.kept()) {
    adjust::Station s;
    if (!camera_index.count(p->camera)) {
      camera_index[p->camera] = static_cast<int>(b.cameras.size());
      const CameraStart& start = photos.camera(p->camera);
      camera::Camera camera = start_camera(start);
      if (listed.count(p->camera)) camera = listed[p->camera];
      if (start.guessed) camera.interior[camera::c] = start.c;
      camera.name = p->camera;
      const CameraSettings& settings = survey.settings.camera(p->camera);
      settings.set(camera);
      b.cameras.push_back(camera);
      b.priors.push_back(adjust::usual_prior(camera));
      b.priors.back().held = settings.fixed;
      if (start.guessed && !std::isfinite(settings.interior[camera::c]))
        b.priors.back().sigma[camera::c] = 0.3 * start.c;
    }
    if (!sortie_index.count(p->sortie)) {
      sortie_index[p->sortie] = static_cast<int>(b.sorties.size());
      b.sorties.push_back(sortie_from(survey, p->sortie, photos, listing));
    }
    s.camera = camera_index[p->camera];
    s.sortie = sortie_index[p->sortie];
    observe(survey, *p, frame, s);
    if (const photo::Metadata& m = p->metadata; std::isfinite(m.pitch_deg) && std::isfinite(m.roll_deg))
      s.up = camera::rotation_from_yaw_pitch_roll(0, m.pitch_deg * rad_per_deg, m.roll_deg * rad_per_deg,
                                                  m.attitude_is_gimbal ? camera::Mount::gimbal : camera::Mount::nadir)
                 .row(2);
    b.stations.push_back(s);
  }
  if (listing) {
    std::map<std::string, const Listing::Row*> rows;
    for (const auto& row : listing->rows) rows[row.image] = &row;
    for (std::size_t i = 0; i < b.stations.size(); ++i) {
      const auto found = rows.find(out.images[i]);
      if (found == rows.end() || !found->second->angles_deg.allFinite()) continue;
      const Listing::Row& row = *found->second;
      adjust::Station& s = b.stations[i];
      s.C = frame->local_from_crs(row.position);
      const Eigen::Vector3d a = row.angles_deg * angle_unit * rad_per_deg;
      s.R = row.yaw_pitch_roll
                ? Eigen::Matrix3d(frame->local_from_enu(s.C) *
                                  camera::rotation_from_yaw_pitch_roll(a.x(), a.y(), a.z(), camera::Mount::gimbal))
                : Eigen::Matrix3d(frame->local_from_grid(s.C) * camera::rotation_from({a.x(), a.y(), a.z()}));
      s.oriented = true;
      s.held = row.fixed;
      if (row.velocity.allFinite()) s.usual_velocity = s.velocity = frame->local_from_grid(s.C) * row.velocity;
      if (row.turning_deg.allFinite()) s.turning = row.turning_deg * rad_per_deg;
      if (row.sigma_angle > 0) s.attitude = s.R, s.sigma_attitude = row.sigma_angle * angle_unit * rad_per_deg;
      if (!survey.crs.local || !(row.sigma_h > 0) || !(row.sigma_v > 0)) continue;
      s.position = s.C;  // elsewhere place_listed() has made it the photo's
      s.sigma_position[0] = row.sigma_h, s.sigma_position[1] = row.sigma_v;
    }
  }
  adjust::expect_motion(b);
  for (const TieTable::Point& p : ties.points) {
    if (!p.chosen) continue;
    adjust::GroundPoint point;
    for (const TieTable::Ray& r : p.rays)
      point.rays.push_back({r.photo, r.x, r.sigma > 0 ? r.sigma : survey.settings.tie.sigma_px, true});
    b.points.push_back(std::move(point));
    out.point_names.push_back(p.name);
  }
  if (frame) b.surveyed = surveyed_points(survey, *frame, out.images);
  return out;
}

NamedBlock oriented_block(const Survey& survey, const PhotoTable& photos) {
  const bool listed = load_listing(survey).has_value();
  // A listing's cameras may be far from what the photos show: which rays are wrong is for the adjustment to say.
  const auto take_all = [](adjust::Block& block) {
    for (adjust::GroundPoint& point : block.points) {
      for (adjust::Ray& ray : point.rays) ray.accepted = true;
      adjust::place(block, point, rad_per_deg);
    }
  };
  if (survey.store.stage("orient") || !listed) {
    NamedBlock out = load_block(survey, "orient");
    if (listed) take_all(out.block);
    return out;
  }
  TieTable ties;
  if (survey.store.stage("tie"))
    ties = load_ties(survey);
  else
    for (const Photo* p : photos.kept()) ties.images.push_back(p->image);
  NamedBlock out = start_block(survey, photos, ties);
  take_all(out.block);
  if (std::none_of(out.block.stations.begin(), out.block.stations.end(),
                   [](const adjust::Station& s) { return s.oriented; }))
    return load_block(survey, "orient");
  return out;
}

std::string oriented_fingerprint(const Survey& survey) {
  if (const auto oriented = survey.store.stage("orient")) return oriented->fingerprint;
  const auto ties = survey.store.stage("tie");
  const auto photos = survey.store.stage("admit");
  return fingerprint({photos ? photos->fingerprint : "", ties ? ties->fingerprint : "", packed(survey.settings.cameras),
                      packed(survey.settings.sorties), packed(survey.settings.tie.sigma_px), survey.crs.wkt,
                      hash_or_empty(survey.inputs() / "listing.csv"), hash_or_empty(survey.inputs() / "cameras.json")});
}

}  // namespace mesograph::survey
