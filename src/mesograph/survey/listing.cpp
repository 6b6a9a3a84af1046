#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/survey/listing.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr std::array<const char*, 3> velocity_columns = {"v_east", "v_north", "v_up"},
                                     turning_columns = {"turn_x", "turn_y", "turn_z"};

fs::path listing_path(const Survey& survey) { return survey.inputs() / "listing.csv"; }
fs::path positions_path(const Survey& survey) { return survey.inputs() / "positions.csv"; }

/// A table under our names for its columns.
class NamedTable {
 public:
  NamedTable(const fs::path& path, const ColumnNames& names) : table_(path, {}), path_(path), names_(names) {
    for (const auto& [ours, theirs] : names)
      if (!table_.has(theirs))
        throw Error("{}: has no column '{}' (wanted as {}); check --columns", path.string(), theirs, ours);
  }
  std::size_t rows() const { return table_.rows(); }
  const std::string& theirs(const std::string& ours) const {
    const auto found = names_.find(ours);
    return found == names_.end() ? ours : found->second;
  }
  bool has(const std::string& ours) const { return table_.has(theirs(ours)); }
  const std::string& text(std::size_t row, const std::string& ours) const { return table_.text(row, theirs(ours)); }
  double required(std::size_t row, const std::string& ours) const { return table_.required_number(row, theirs(ours)); }
  double number(std::size_t row, const std::string& ours) const {
    return table_.number(row, theirs(ours)).value_or(nan);
  }
  std::string where(std::size_t row) const { return table_.where(row); }
  void need(std::initializer_list<const char*> columns) const {
    for (const char* column : columns)
      if (!has(column))
        throw Error("{}: has no column '{}'; name it with --columns {}=ITS_NAME", path_.string(), column, column);
  }

 private:
  CsvTable table_;
  fs::path path_;
  ColumnNames names_;
};

/// Three angles of a row; NaN where all are empty: then the row says where a photo was taken, not how it looked.
Eigen::Vector3d angles_of(const NamedTable& table, std::size_t row, const std::array<const char*, 3>& names) {
  int given = 0;
  for (const char* name : names) given += !table.text(row, name).empty();
  if (given == 0) return Eigen::Vector3d::Constant(nan);
  return {table.required(row, names[0]), table.required(row, names[1]), table.required(row, names[2])};
}

/// NaN where all three are empty: nothing is known of the place.
Eigen::Vector3d position_of(const NamedTable& table, std::size_t row) {
  if (table.text(row, "east").empty() && table.text(row, "north").empty() && table.text(row, "height").empty())
    return Eigen::Vector3d::Constant(nan);
  return {table.required(row, "east"), table.required(row, "north"), table.required(row, "height")};
}

void check_rows(const Listing& listing, const NamedTable& table) {
  std::set<std::string> seen;
  bool apart = listing.rows.size() < 2;
  for (std::size_t row = 0; row < listing.rows.size(); ++row) {
    const Listing::Row& r = listing.rows[row];
    if (!seen.insert(r.image).second)
      throw Error("{}: photo '{}' is listed twice; keep one row", table.where(row), r.image);
    // the same place typed for all
    apart = apart || !r.position.allFinite() || r.position != listing.rows[0].position;
    // 400 gon are a full turn; nobody writes more than 360 degrees.
    if (r.angles_deg.allFinite() && r.angles_deg.cwiseAbs().maxCoeff() > 360.0)
      throw Error("{}: an angle of '{}' is above 360; angles are in degrees, not in gon", table.where(row), r.image);
  }
  if (!apart)
    throw Error("{}: all photos have the same position; check which columns are east, north and height (--columns)",
                table.where(0));
}

Listing read_listing(const NamedTable& table) {
  table.need({"image", "camera", "east", "north", "height"});
  Listing out;
  const bool turned = table.has("yaw") && !table.has("omega"), angles = turned || table.has("omega");
  if (turned)
    table.need({"yaw", "pitch", "roll"});
  else if (angles)
    table.need({"omega", "phi", "kappa"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    Listing::Row r;
    r.image = table.text(row, "image"), r.sortie = table.text(row, "sortie"), r.camera = table.text(row, "camera");
    if (r.image.empty() || r.camera.empty()) throw Error("{}: image or camera is empty; fill it in", table.where(row));
    r.position = position_of(table, row);
    r.yaw_pitch_roll = turned;
    if (turned)
      r.angles_deg = angles_of(table, row, {"yaw", "pitch", "roll"});
    else if (angles)
      r.angles_deg = angles_of(table, row, {"omega", "phi", "kappa"});
    r.sigma_h = table.number(row, "sigma_h"), r.sigma_v = table.number(row, "sigma_v");
    r.sigma_angle = table.number(row, "sigma_angle");
    for (std::size_t a = 0; a < 3; ++a) {
      r.velocity[static_cast<Eigen::Index>(a)] = table.number(row, velocity_columns[a]);
      r.turning_deg[static_cast<Eigen::Index>(a)] = table.number(row, turning_columns[a]);
    }
    for (const double sigma : {r.sigma_h, r.sigma_v})
      check_sigma(sigma, least_sigma_m, "m", table.where(row), "photo '" + r.image + "'");
    check_sigma(r.sigma_angle, least_sigma_deg, "degrees", table.where(row), "photo '" + r.image + "'");
    r.fixed = table.has("fixed") && table.text(row, "fixed") == "yes";
    if (r.angles_deg.allFinite() && !r.position.allFinite())
      throw Error("{}: photo '{}' has angles and no position; fill in east, north and height", table.where(row),
                  r.image);
    out.rows.push_back(r);
  }
  check_rows(out, table);
  return out;
}

std::string listing_text(const Listing& listing, const geo::Crs& crs) {
  const bool turned = !listing.rows.empty() && listing.rows.front().yaw_pitch_roll;
  std::string text = fmt::format("image,sortie,camera,{},height,{},sigma_h,sigma_v,sigma_angle,fixed,{},{}\n",
                                 crs.plan_columns(), turned ? "yaw,pitch,roll" : "omega,phi,kappa",
                                 fmt::join(velocity_columns, ","), fmt::join(turning_columns, ","));
  for (const Listing::Row& r : listing.rows) {
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{},{}", csv_field(r.image), csv_field(r.sortie),
                        csv_field(r.camera), csv_length(r.position.x()), csv_length(r.position.y()),
                        csv_length(r.position.z()), csv_degrees(r.angles_deg.x()), csv_degrees(r.angles_deg.y()),
                        csv_degrees(r.angles_deg.z()), csv_sigma(r.sigma_h), csv_sigma(r.sigma_v),
                        csv_sigma(r.sigma_angle, 8), r.fixed ? "yes" : "");
    for (const Eigen::Vector3d* motion : {&r.velocity, &r.turning_deg})
      for (const double part : *motion) text += "," + csv_degrees(part);
    text += "\n";
  }
  return text;
}

struct Position {
  std::string image;
  double time = nan;
  Eigen::Vector3d place;  ///< WGS 84
  double sigma_h = nan, sigma_v = nan;
};

std::vector<Position> load_positions(const Survey& survey) {
  std::vector<Position> out;
  if (!fs::exists(positions_path(survey))) return out;
  const CsvTable table(positions_path(survey), {"image", "time", "longitude", "latitude", "height"});
  for (std::size_t row = 0; row < table.rows(); ++row)
    out.push_back({table.text(row, "image"),
                   seconds_of(table.text(row, "time")),
                   {table.required_number(row, "longitude"), table.required_number(row, "latitude"),
                    table.number(row, "height").value_or(nan)},
                   table.number(row, "sigma_h").value_or(nan),
                   table.number(row, "sigma_v").value_or(nan)});
  return out;
}

/// Positions of the metadata, sortie by sortie, in WGS 84 and above the ellipsoid.
void place_from_metadata(const Survey& survey, std::vector<Photo>& photos) {
  std::map<std::string, std::vector<Photo*>> sorties;
  for (Photo& p : photos) {
    const photo::Metadata& m = p.metadata;
    p.position = {m.longitude_deg, m.latitude_deg, m.height};
    p.sigma_h = m.sigma_h, p.sigma_v = m.sigma_v;
    p.datum_named = false;
    if (p.position.head<2>().allFinite()) sorties[p.sortie].push_back(&p);
  }
  for (const auto& [name, members] : sorties) {
    const SortieSettings& settings = survey.settings.sortie(name);
    if (settings.heights == PositionHeights::geoid && survey.crs.heights == geo::Heights::grid) {
      const Eigen::Vector3d first = members.front()->position;  // the geoid moves by centimetres over a site
      const double N = geo::geoid_height(survey.crs, first.x(), first.y());
      for (Photo* p : members) p->position.z() += N;
    }
    if (settings.positions_crs.empty()) continue;
    std::vector<Eigen::Vector3d> places;
    for (const Photo* p : members) places.push_back(p->position);
    for (Eigen::Vector3d& place : places)
      if (!std::isfinite(place.z())) place.z() = 0;
    const auto moved = geo::wgs84_from(settings.positions_crs, places);
    for (std::size_t i = 0; i < members.size(); ++i) {
      const bool height = std::isfinite(members[i]->position.z());
      members[i]->position = moved[i];
      if (!height) members[i]->position.z() = nan;
      members[i]->datum_named = true;
    }
  }
}

}  // namespace

double seconds_of(const std::string& time) {
  int year = 0, month = 0, day = 0, hour = 0, minute = 0;
  double second = 0;
  char a = 0, b = 0, gap = 0;
  if (std::sscanf(time.c_str(), "%d%c%d%c%d%c%d:%d:%lf", &year, &a, &month, &b, &day, &gap, &hour, &minute, &second) !=
          9 ||
      (a != ':' && a != '-') || a != b || (gap != ' ' && gap != 'T'))
    return nan;
  const std::chrono::year_month_day date(std::chrono::year(year), std::chrono::month(static_cast<unsigned>(month)),
                                         std::chrono::day(static_cast<unsigned>(day)));
  if (!date.ok() || hour > 24 || minute > 59 || !(second >= 0 && second < 62)) return nan;
  return static_cast<double>(std::chrono::sys_days(date).time_since_epoch().count()) * 86400.0 + hour * 3600 +
         minute * 60 + second;
}

Listing check_listing(const fs::path& listing, const fs::path& cameras, bool fixed, const ColumnNames& columns) {
  if (cameras.empty()) throw Error("admit: --listing needs --cameras cameras.json beside it");
  Listing read = read_listing(NamedTable(listing, columns));
  for (Listing::Row& r : read.rows) {
    r.fixed = fixed && r.angles_deg.allFinite();
    if (fixed && !r.fixed)
      throw Error("{}: photo '{}' has no angles; --fixed needs whole orientations", listing.string(), r.image);
  }
  read.cameras = camera::read_cameras(cameras);
  for (const Listing::Row& r : read.rows)
    if (!read.cameras.count(r.camera))
      throw Error("{}: photo '{}' has camera '{}', which is not in {}; add it or correct the name", listing.string(),
                  r.image, r.camera, cameras.string());
  return read;
}

void keep_listing(const Survey& survey, const Listing& listing) {
  write_file(survey.inputs() / "cameras.json", camera::cameras_text(listing.cameras));
  write_file(listing_path(survey), listing_text(listing, survey.crs));
}

std::optional<Listing> load_listing(const Survey& survey) {
  if (!fs::exists(listing_path(survey))) return std::nullopt;
  Listing out = read_listing(NamedTable(listing_path(survey), {}));
  out.cameras = camera::read_cameras(survey.inputs() / "cameras.json");
  return out;
}

void keep_positions(const Survey& survey, const fs::path& file, const std::string& crs, const ColumnNames& columns) {
  const NamedTable table(file, columns);
  if (!table.has("image") && !table.has("time"))
    throw Error("{}: has neither an image nor a time column; name one with --columns image=ITS_NAME", file.string());
  const bool geographic = table.has("longitude");
  if (geographic)
    table.need({"longitude", "latitude", "height"});
  else
    table.need({"east", "north", "height"});
  if (!geographic && crs.empty() && survey.crs.local)
    throw Error("{}: a local survey has no place on Earth; name the positions' system with --positions-crs",
                file.string());
  std::vector<Eigen::Vector3d> places;
  for (std::size_t row = 0; row < table.rows(); ++row) {
    places.push_back({table.required(row, geographic ? "longitude" : "east"),
                      table.required(row, geographic ? "latitude" : "north"), table.required(row, "height")});
    for (const char* column : {"sigma_h", "sigma_v"})
      check_sigma(table.number(row, column), least_sigma_m, "m", table.where(row), "this position");
    if (!table.text(row, "image").empty()) continue;
    if (!std::isfinite(seconds_of(table.text(row, "time"))))
      throw Error("{}: has no image, and its time '{}' is not one; write 2026-06-14 10:02:33.25", table.where(row),
                  table.text(row, "time"));
  }
  if (places.empty()) throw Error("{}: holds no positions", file.string());
  if (!crs.empty())
    places = geo::wgs84_from(crs, places);
  else if (!geographic)
    places = geo::wgs84_from(survey.crs, places);
  // Longitudes and latitudes without a word are WGS 84, which leaves open which of its realisations: not "named".
  const bool named = !crs.empty() || !geographic;
  std::string text = "image,time,longitude,latitude,height,sigma_h,sigma_v,datum\n";
  for (std::size_t row = 0; row < table.rows(); ++row)
    text += fmt::format("{},{},{:.11f},{:.11f},{:.5f},{},{},{}\n", csv_field(table.text(row, "image")),
                        csv_field(table.text(row, "time")), places[row].x(), places[row].y(), places[row].z(),
                        csv_sigma(table.number(row, "sigma_h")), csv_sigma(table.number(row, "sigma_v")),
                        named ? "named" : "");
  write_file(positions_path(survey), text);
}

void place_listed(const Survey& survey, const Listing& listing, std::vector<Photo>& photos) {
  if (survey.crs.local) return;
  std::map<std::string, const Listing::Row*> rows;
  for (const Listing::Row& r : listing.rows)
    if (r.position.allFinite() && (r.sigma_h > 0 || r.sigma_v > 0 || !r.angles_deg.allFinite())) rows[r.image] = &r;
  std::vector<Photo*> found;
  std::vector<Eigen::Vector3d> places;
  for (Photo& p : photos)
    if (const auto row = rows.find(p.image); row != rows.end())
      found.push_back(&p), places.push_back(row->second->position);
  if (found.empty()) return;
  const auto moved = geo::wgs84_from(survey.crs, places);
  for (std::size_t i = 0; i < found.size(); ++i) {
    found[i]->position = moved[i];
    found[i]->sigma_h = rows.at(found[i]->image)->sigma_h, found[i]->sigma_v = rows.at(found[i]->image)->sigma_v;
    found[i]->datum_named = true;
  }
}

PositionsUsed place_photos(const Survey& survey, std::vector<Photo>& photos) {
  place_from_metadata(survey, photos);
  const std::vector<Position> positions = load_positions(survey);
  PositionsUsed out;
  out.rows = positions.size();
  if (positions.empty()) return out;
  const bool named = CsvTable(positions_path(survey), {"datum"}).text(0, "datum") == "named";
  std::map<std::string, std::size_t> by_image;
  std::vector<std::pair<double, std::size_t>> by_time;
  for (std::size_t i = 0; i < positions.size(); ++i) {
    if (!positions[i].image.empty()) by_image[positions[i].image] = i;
    if (std::isfinite(positions[i].time)) by_time.emplace_back(positions[i].time, i);
  }
  std::sort(by_time.begin(), by_time.end());
  constexpr double most_apart = 0.1;  // s: at 15 m/s a metre and a half; photos are a second apart or more
  for (Photo& p : photos) {
    std::optional<std::size_t> found;
    if (const auto at = by_image.find(p.image); at != by_image.end()) {
      found = at->second;
      ++out.by_image;
    } else if (const double t = seconds_of(p.metadata.time); std::isfinite(t) && !by_time.empty()) {
      auto near = std::lower_bound(by_time.begin(), by_time.end(), std::pair{t, std::size_t{0}});
      if (near == by_time.end() || (near != by_time.begin() && t - std::prev(near)->first < near->first - t)) --near;
      if (std::abs(near->first - t) > most_apart || !positions[near->second].image.empty()) continue;
      found = near->second;
      ++out.by_time;
    }
    if (!found) continue;
    const Position& position = positions[*found];
    p.position = position.place;
    p.sigma_h = position.sigma_h, p.sigma_v = position.sigma_v;
    p.datum_named = named;
  }
  return out;
}

}  // namespace mesograph::survey
