#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/pair.hpp>
#include <mesograph/match/similarity.hpp>
#include <mesograph/stages/tie_items.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* keypoint_version = "keypoints 10";
constexpr const char* pairs_layout = "pairs 1";
constexpr const char* match_version = "matches 6";

/// Matches of a photo with one of its partners, as an item holds them.
struct PartnerMatches {
  std::string partner;
  std::vector<match::Match> matches;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("partner", s.partner), visit("matches", s.matches);
  }
};

void match_photo(const Survey& survey, const PhotoTable& table, const MatchItem& item, int limit) {
  const std::vector<const Photo*> photos = table.kept();
  const Photo& a = *photos[item.photo];
  const keypoint::Keypoints keys_a = read_keypoints(keypoint_item(survey, a, limit));
  const camera::Camera camera_a = start_camera(table.camera(a.camera));
  std::vector<PartnerMatches> pairs;
  for (const int partner : item.partners) {
    const Photo& b = *photos[partner];
    const keypoint::Keypoints keys_b = read_keypoints(keypoint_item(survey, b, limit));
    const camera::Camera camera_b = start_camera(table.camera(b.camera));
    pairs.push_back(
        {b.image, match::match_pair(keys_a, camera_a, keys_b, camera_b, seed_from(a.image + "|" + b.image))});
  }
  write_packed(item.file, match_version, pairs);
}

/// A preview looks at photos of at most a thousand pixels.
int preview_halvings(const Photo& photo) {
  int out = 0;
  // pixels across: enough for every pair of a flown block, a tenth of the time
  while ((std::max(photo.width, photo.height) >> out) > 1000) ++out;
  return out;
}

/// The strongest keypoints of a photo, which come first: enough to tell what it shows.
constexpr std::size_t telling = 1000;

/// Pairs of the photos `asked` with those that look like them.
match::Pairs similar(const Survey& survey, const std::vector<const Photo*>& photos, const std::vector<int>& asked,
                     int limit, Progress& progress) {
  progress.start("comparing photos", photos.size());
  const auto rows_of = [&](std::size_t i, std::size_t most) {
    std::vector<std::uint8_t> rows = read_keypoints(keypoint_item(survey, *photos[i], limit)).descriptors;
    rows.resize(std::min(rows.size(), most * keypoint::descriptor_size));
    return rows;
  };
  // Words from at most 400 photos, evenly taken, 150 rows each.
  const std::size_t every = 1 + photos.size() / 400;
  std::vector<std::uint8_t> sample;
  for (std::size_t i = 0; i < photos.size(); i += every) {
    const auto rows = rows_of(i, 150);
    sample.insert(sample.end(), rows.begin(), rows.end());
  }
  const match::Vocabulary words = match::learn_words(sample);
  std::vector<std::vector<float>> signatures(photos.size());
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    const auto rows = rows_of(i, telling);
    signatures[i] = match::signature(words, rows.data(), rows.size() / keypoint::descriptor_size);
    progress.advance();
  });
  return match::similar_pairs(signatures, asked);
}

}  // namespace

fs::path keypoint_item(const Survey& survey, const Photo& photo, int limit) {
  return survey.store.item(
      "keypoints", photo.image,
      fingerprint({keypoint_version, photo.content(), std::to_string(limit), survey.preview ? "preview" : ""}));
}

keypoint::Keypoints read_keypoints(const fs::path& item) {
  return read_packed<keypoint::Keypoints>(item, keypoint_version);
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
      const int halvings = survey.preview ? preview_halvings(*photos[i]) : 0;
      if (survey.preview) options.double_below = 0;
      keypoint::Keypoints found =
          keypoint::detect(photo::read_grey(photos[i]->path, halvings, photos[i]->tone), options);
      for (keypoint::Keypoint& k : found.points) {
        const auto pixel = static_cast<float>(1 << halvings);
        k.x *= pixel, k.y *= pixel, k.scale *= pixel;
      }
      write_packed(item, keypoint_version, found);
    }
    progress.advance();
  });
}

match::Pairs plan(const Survey& survey, const PhotoTable& table, PairChoice how, int limit, Progress& progress) {
  const std::vector<const Photo*> photos = table.kept();
  if (how == PairChoice::all) return match::all_pairs(photos.size());
  std::vector<int> asked;
  for (std::size_t i = 0; i < photos.size(); ++i)
    if (how == PairChoice::similar || !photos[i]->position.head<2>().allFinite()) asked.push_back(static_cast<int>(i));
  match::Pairs pairs;
  if (asked.size() < photos.size()) {
    const auto flown = flight_photos(photos, table);
    const photo::Flight flight = photo::view_flight(flown);
    std::vector<match::PairPhoto> known;
    for (std::size_t i = 0; i < photos.size(); ++i) {
      const photo::Footprint& f = flight.footprints[i];
      match::PairPhoto p;
      p.aim = f.radius > 0 ? f.aim : flown[i].at;
      // An assumed height is good for the shape of things, not for a verdict on who overlaps whom.
      p.radius = flight.sorties[flown[i].sortie].height_assumed ? nan : f.radius;
      p.view = f.view;
      p.sortie = flown[i].sortie;
      known.push_back(p);
    }
    pairs = match::plan_pairs(known);
  }
  if (asked.empty()) return pairs;
  return match::merged(pairs, similar(survey, photos, asked, limit, progress));
}

std::vector<MatchItem> match_items(const Survey& survey, const PhotoTable& table, const match::Pairs& pairs,
                                   int limit) {
  const std::vector<const Photo*> photos = table.kept();
  std::map<int, MatchItem> items;
  for (const auto& [a, b] : pairs) {
    items[a].photo = a;
    items[a].partners.push_back(b);
  }
  std::vector<MatchItem> out;
  for (auto& [photo, item] : items) {
    std::vector<std::string> parts = {match_version, std::to_string(limit), photos[photo]->content(),
                                      std::to_string(table.camera(photos[photo]->camera).c)};
    for (const int partner : item.partners) {
      parts.push_back(photos[partner]->image + photos[partner]->content());
      parts.push_back(std::to_string(table.camera(photos[partner]->camera).c));
    }
    item.file = survey.store.item("matches", photos[photo]->image, fingerprint(parts));
    out.push_back(std::move(item));
  }
  return out;
}

void match_photos(const Survey& survey, const PhotoTable& table, const std::vector<MatchItem>& items, int limit,
                  Progress& progress) {
  progress.start("matching photos", items.size());
  parallel_for(items.size(), [&](std::size_t i) {
    progress.check();
    if (!fs::exists(items[i].file)) match_photo(survey, table, items[i], limit);
    progress.advance();
  });
}

std::vector<match::PairMatches> read_matches(const fs::path& file, int photo,
                                             const std::map<std::string, int>& number) {
  std::vector<match::PairMatches> out;
  for (PartnerMatches& pair : read_packed<std::vector<PartnerMatches>>(file, match_version))
    out.push_back({photo, number.at(pair.partner), std::move(pair.matches)});
  return out;
}

std::map<std::string, int> numbers_of(const std::vector<const Photo*>& photos) {
  std::map<std::string, int> out;
  for (std::size_t i = 0; i < photos.size(); ++i) out[photos[i]->image] = static_cast<int>(i);
  return out;
}

void save_matched_pairs(const Survey& survey, const MatchedPairs& pairs) {
  write_packed(survey.store.folder() / "pairs", pairs_layout, pairs);
}

keypoint::Keypoints load_keypoints(const Survey& survey, const Photo& photo) {
  const auto stage = survey.store.stage("tie");
  const fs::path item = stage ? keypoint_item(survey, photo, stage->result<Tied>().keypoints_asked) : fs::path();
  if (item.empty() || !fs::exists(item))
    throw Error("{}: no keypoints of '{}'; run mesograph tie first", survey.folder.string(), photo.image);
  return read_keypoints(item);
}

std::vector<match::PairMatches> load_matches(const Survey& survey) {
  const fs::path list = survey.store.folder() / "pairs";
  if (!survey.store.stage("tie") || !fs::exists(list))
    throw Error("{}: no matches yet; run mesograph tie first", survey.folder.string());
  const auto matched = read_packed<MatchedPairs>(list, pairs_layout);
  const std::set<std::pair<std::string, std::string>> dropped(matched.dropped.begin(), matched.dropped.end());
  const PhotoTable table = load_photos(survey);
  const std::vector<const Photo*> photos = table.kept();
  const auto number = numbers_of(photos);
  std::vector<match::PairMatches> out;
  for (const auto& [image, name] : matched.items) {
    const fs::path file = survey.store.folder() / "matches" / name;
    const auto photo = number.find(image);
    if (photo == number.end() || !fs::exists(file)) continue;
    for (match::PairMatches& pair : read_matches(file, photo->second, number))
      if (!dropped.count({photos[pair.a]->image, photos[pair.b]->image})) out.push_back(std::move(pair));
  }
  return out;
}

}  // namespace mesograph::stages
