#include <algorithm>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/pairs.hpp>
#include <mesograph/match/verify.hpp>
#include <mesograph/survey/tie.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* keypoint_version = "keypoints 4";
constexpr const char* match_version = "matches 3";
constexpr const char* tie_version = "tie 1";

using Json = nlohmann::json;

fs::path imported_ties(const Survey& survey) { return survey.inputs() / "ties.csv"; }

int limit_of(const Survey& survey, const TieOptions& options) {
  return options.limit.value_or(survey.settings.tie_limit);
}

fs::path keypoint_item(const Survey& survey, const Photo& photo, int limit) {
  return survey.store.item("keypoints", photo.image,
                           fingerprint({keypoint_version, photo.hash, std::to_string(limit)}));
}

keypoint::Keypoints read_keypoints(const fs::path& path) {
  const Json json = read_packed(path);
  return {values_of<keypoint::Keypoint>(json.at("points")), values_of<std::uint8_t>(json.at("descriptors"))};
}

void find_keypoints(const Survey& survey, const std::vector<const Photo*>& photos, int limit, Progress& progress) {
  progress.start("finding keypoints", photos.size());
  photo::prepare_gdal();
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    const fs::path item = keypoint_item(survey, *photos[i], limit);
    if (!fs::exists(item)) {
      keypoint::DetectOptions options;
      options.limit = limit;
      const keypoint::Keypoints found = keypoint::detect(photo::read_grey(photos[i]->path), options);
      write_packed(item, {{"points", bytes_of(found.points)}, {"descriptors", bytes_of(found.descriptors)}});
    }
    progress.advance();
  });
}

std::vector<match::PairPhoto> positions_of(const std::vector<const Photo*>& photos) {
  std::map<std::string, int> sorties;
  std::vector<match::PairPhoto> out;
  double cos_latitude = 1.0;
  for (const Photo* p : photos)
    if (std::isfinite(p->metadata.latitude_deg)) {
      cos_latitude = std::cos(p->metadata.latitude_deg * rad_per_deg);
      break;
    }
  constexpr double per_degree = 111320.0;  // near enough to tell neighbours
  for (const Photo* p : photos) {
    const int sortie = sorties.emplace(p->sortie, static_cast<int>(sorties.size())).first->second;
    out.push_back(
        {{p->metadata.longitude_deg * per_degree * cos_latitude, p->metadata.latitude_deg * per_degree, 0.0}, sortie});
  }
  return out;
}

/// Pairs grouped by their first photo: one work item each.
struct MatchItem {
  int photo = 0;
  std::vector<int> partners;
  fs::path file;
};

std::vector<MatchItem> match_items(const Survey& survey, const PhotoTable& table, const TieOptions& options) {
  const std::vector<const Photo*> photos = table.kept();
  match::PairOptions pairing;
  if (options.pairs == "all") pairing.all_below = photos.size();
  std::map<int, MatchItem> items;
  for (const auto& [a, b] : match::plan_pairs(positions_of(photos), pairing)) {
    items[a].photo = a;
    items[a].partners.push_back(b);
  }
  std::vector<MatchItem> out;
  for (auto& [photo, item] : items) {
    std::vector<std::string> parts = {match_version, std::to_string(limit_of(survey, options)), photos[photo]->hash,
                                      std::to_string(table.camera(photos[photo]->camera).c)};
    for (const int partner : item.partners) {
      parts.push_back(photos[partner]->image + photos[partner]->hash);
      parts.push_back(std::to_string(table.camera(photos[partner]->camera).c));
    }
    item.file = survey.store.item("matches", photos[photo]->image, fingerprint(parts));
    out.push_back(std::move(item));
  }
  return out;
}

Eigen::Matrix2Xd image_points(const keypoint::Keypoints& keypoints) {
  Eigen::Matrix2Xd x(2, keypoints.points.size());
  for (std::size_t i = 0; i < keypoints.points.size(); ++i)
    x.col(static_cast<Eigen::Index>(i)) << keypoints.points[i].x, keypoints.points[i].y;
  return x;
}

void match_photo(const Survey& survey, const PhotoTable& table, const MatchItem& item, int limit) {
  const std::vector<const Photo*> photos = table.kept();
  const Photo& a = *photos[item.photo];
  const keypoint::Keypoints keys_a = read_keypoints(keypoint_item(survey, a, limit));
  const Eigen::Matrix2Xd x_a = image_points(keys_a);
  Json pairs = Json::array();
  for (const int partner : item.partners) {
    const Photo& b = *photos[partner];
    const keypoint::Keypoints keys_b = read_keypoints(keypoint_item(survey, b, limit));
    const match::Verification verified =
        match::verify(match::match(keys_a, keys_b), x_a, start_camera(table.camera(a.camera)), image_points(keys_b),
                      start_camera(table.camera(b.camera)), seed_from(a.image + "|" + b.image));
    pairs.push_back({{"partner", b.image}, {"matches", bytes_of(verified.matches)}});
  }
  write_packed(item.file, pairs);
}

/// Matches of one item; empty pairs are those that failed.
std::vector<match::PairMatches> read_item(const MatchItem& item, const std::map<std::string, int>& number) {
  std::vector<match::PairMatches> out;
  for (const Json& pair : read_packed(item.file))
    out.push_back({item.photo, number.at(pair.at("partner")), values_of<match::Match>(pair.at("matches"))});
  return out;
}

std::map<std::string, int> numbers_of(const std::vector<const Photo*>& photos) {
  std::map<std::string, int> out;
  for (std::size_t i = 0; i < photos.size(); ++i) out[photos[i]->image] = static_cast<int>(i);
  return out;
}

/// Removes items that no longer belong to anything.
void sweep(const fs::path& folder, const std::set<fs::path>& keep) {
  std::error_code missing;
  for (const auto& entry : fs::directory_iterator(folder, missing))
    if (!keep.count(entry.path())) fs::remove(entry.path(), missing);
}

TieTable import_ties(const Survey& survey, const PhotoTable& table, Progress& progress) {
  const CsvTable csv(imported_ties(survey), {"image", "point", "x", "y"});
  TieTable out;
  const auto number = numbers_of(table.kept());
  for (const Photo* p : table.kept()) out.images.push_back(p->image);
  std::map<std::string, std::size_t> index;
  std::size_t skipped = 0;
  for (std::size_t row = 0; row < csv.rows(); ++row) {
    const auto photo = number.find(csv.required_text(row, "image"));
    if (photo == number.end()) {
      ++skipped;
      continue;
    }
    const std::string& name = csv.required_text(row, "point");
    const auto [found, fresh] = index.emplace(name, out.points.size());
    if (fresh) out.points.push_back({name, {}});
    out.points[found->second].rays.push_back(
        {photo->second, {csv.required_number(row, "x"), csv.required_number(row, "y")}});
  }
  std::erase_if(out.points, [](const TieTable::Point& p) { return p.rays.size() < 2; });
  if (skipped) progress.say(fmt::format("ties.csv: {} rows name photos that take no part", skipped));
  if (out.points.empty())
    throw Error("{}: no tie point is seen in two photos of this survey; check the image names",
                imported_ties(survey).string());
  return out;
}

void save(const Survey& survey, const TieTable& ties) {
  std::vector<double> numbers;
  std::vector<std::int32_t> counts;
  Json names = Json::array();
  for (const TieTable::Point& p : ties.points) {
    counts.push_back(static_cast<std::int32_t>(p.rays.size()));
    names.push_back(p.name);
    for (const TieTable::Ray& r : p.rays) {
      numbers.push_back(r.photo);
      numbers.push_back(r.x.x());
      numbers.push_back(r.x.y());
    }
  }
  write_packed(survey.store.folder() / "ties",
               {{"images", ties.images}, {"names", names}, {"counts", bytes_of(counts)}, {"rays", bytes_of(numbers)}});
}

}  // namespace

std::string tie_fingerprint(const Survey& survey, const TieOptions& options) {
  const fs::path imported = imported_ties(survey);
  return fingerprint({tie_version, photos_fingerprint(survey), std::to_string(limit_of(survey, options)), options.pairs,
                      hash_or_empty(imported)});
}

Outcome tie(Survey& survey, const TieOptions& options, Progress& progress) {
  if (options.pairs != "positions" && options.pairs != "all")
    throw Error("tie: --pairs {} is unknown; write positions or all", options.pairs);
  if (limit_of(survey, options) < 100) throw Error("tie: --limit must be 100 or more");
  const PhotoTable table = load_photos(survey);
  if (!options.import_file.empty()) {
    CsvTable(options.import_file, {"image", "point", "x", "y"});
    write_file(imported_ties(survey), read_file(options.import_file));
  }
  const std::string print = tie_fingerprint(survey, options);
  if (const auto stage = survey.store.stage("tie"); stage && stage->fingerprint == print)
    return {stage->summary, false};
  const std::vector<const Photo*> photos = table.kept();
  std::size_t keypoint_count = 0, planned = 0, verified = 0;
  TieTable ties;
  if (fs::exists(imported_ties(survey))) {
    ties = import_ties(survey, table, progress);
  } else {
    for (const Photo* p : photos)
      if (p->path.empty())
        throw Error("tie: photo '{}' has no pixels (it comes from a listing); give tie points with --import ties.csv",
                    p->image);
    const int limit = limit_of(survey, options);
    find_keypoints(survey, photos, limit, progress);
    const std::vector<MatchItem> items = match_items(survey, table, options);
    progress.start("matching photos", items.size());
    parallel_for(items.size(), [&](std::size_t i) {
      progress.check();
      if (!fs::exists(items[i].file)) match_photo(survey, table, items[i], limit);
      progress.advance();
    });
    const auto number = numbers_of(photos);
    std::vector<match::PairMatches> pairs;
    std::set<fs::path> used;
    for (const MatchItem& item : items) {
      planned += item.partners.size();
      used.insert(item.file);
      for (match::PairMatches& pair : read_item(item, number)) {
        verified += !pair.matches.empty();
        pairs.push_back(std::move(pair));
      }
    }
    std::vector<keypoint::Keypoints> keys(photos.size());
    std::vector<std::size_t> counts;
    for (std::size_t i = 0; i < photos.size(); ++i) {
      used.insert(keypoint_item(survey, *photos[i], limit));
      keys[i] = read_keypoints(keypoint_item(survey, *photos[i], limit));
      keys[i].descriptors = {};
      counts.push_back(keys[i].points.size());
      keypoint_count += counts.back();
      ties.images.push_back(photos[i]->image);
    }
    for (const match::TiePoint& point : match::join_matches(counts, pairs)) {
      TieTable::Point out{fmt::format("T{:06d}", ties.points.size()), {}};
      for (const match::TieRay& ray : point) {
        const keypoint::Keypoint& k = keys[ray.photo].points[ray.keypoint];
        out.rays.push_back({ray.photo, {k.x, k.y}});
      }
      ties.points.push_back(std::move(out));
    }
    if (ties.points.empty())
      throw Error("tie: no two photos match; check that they overlap and are sharp, or try --pairs all");
    sweep(survey.store.folder() / "keypoints", used);
    sweep(survey.store.folder() / "matches", used);
  }
  save(survey, ties);
  std::size_t rays = 0;
  for (const TieTable::Point& p : ties.points) rays += p.rays.size();
  Outcome out;
  out.summary = {{"keypoints", keypoint_count},
                 {"pairs_planned", planned},
                 {"pairs_verified", verified},
                 {"tie_points", ties.points.size()},
                 {"mean_multiplicity", static_cast<double>(rays) / static_cast<double>(ties.points.size())}};
  nlohmann::ordered_json stored = out.summary;
  stored["limit"] = limit_of(survey, options);
  stored["pairs"] = options.pairs;
  survey.store.finish("tie", {print, stored});
  return out;
}

TieTable load_ties(const Survey& survey) {
  if (!survey.store.stage("tie")) throw Error("{}: no tie points yet; run mesograph tie first", survey.folder.string());
  const Json json = read_packed(survey.store.folder() / "ties");
  TieTable out;
  out.images = json.at("images").get<std::vector<std::string>>();
  const auto counts = values_of<std::int32_t>(json.at("counts"));
  const auto numbers = values_of<double>(json.at("rays"));
  std::size_t next = 0;
  for (std::size_t i = 0; i < counts.size(); ++i) {
    TieTable::Point point{json.at("names")[i], {}};
    for (std::int32_t r = 0; r < counts[i]; ++r, next += 3)
      point.rays.push_back({static_cast<int>(numbers[next]), {numbers[next + 1], numbers[next + 2]}});
    out.points.push_back(std::move(point));
  }
  return out;
}

keypoint::Keypoints load_keypoints(const Survey& survey, const Photo& photo) {
  const auto stage = survey.store.stage("tie");
  const fs::path item =
      stage ? keypoint_item(survey, photo, stage->summary.value("limit", survey.settings.tie_limit)) : fs::path();
  if (item.empty() || !fs::exists(item))
    throw Error("{}: no keypoints of '{}'; run mesograph tie first", survey.folder.string(), photo.image);
  return read_keypoints(item);
}

std::vector<match::PairMatches> load_matches(const Survey& survey) {
  const auto stage = survey.store.stage("tie");
  if (!stage) throw Error("{}: no matches yet; run mesograph tie first", survey.folder.string());
  TieOptions options;
  options.limit = stage->summary.value("limit", survey.settings.tie_limit);
  options.pairs = stage->summary.value("pairs", "positions");
  const PhotoTable table = load_photos(survey);
  const auto number = numbers_of(table.kept());
  std::vector<match::PairMatches> out;
  for (const MatchItem& item : match_items(survey, table, options)) {
    if (!fs::exists(item.file)) continue;
    for (match::PairMatches& pair : read_item(item, number)) out.push_back(std::move(pair));
  }
  return out;
}

}  // namespace mesograph::survey
