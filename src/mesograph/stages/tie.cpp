#include <algorithm>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/stages/tie.hpp>
#include <mesograph/stages/tie_figures.hpp>
#include <mesograph/stages/tie_items.hpp>
#include <mesograph/survey/tie_table.hpp>
#include <set>
#include <unordered_map>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* tie_version = "tie 5";

fs::path imported_ties(const Survey& survey) { return survey.inputs() / "ties.csv"; }

int keypoints_of(const Survey& survey, const TieOptions& options) {
  return options.keypoints.value_or(survey.settings.tie.keypoints);
}

/// Number of the photo that a column of a table names; rows of one photo stand together as a rule.
class PhotoColumn {
 public:
  PhotoColumn(const CsvReader& table, const char* column, const std::map<std::string, int>& number)
      : table_(table), column_(*table.column(column)), number_(number) {}
  /// Negative: a photo that takes no part.
  int photo() {
    const std::string_view name = table_.required_text(column_);
    if (name != name_) {
      name_ = name;
      const auto found = number_.find(name_);
      photo_ = found == number_.end() ? -1 : found->second;
    }
    return photo_;
  }

 private:
  const CsvReader& table_;
  std::size_t column_;
  const std::map<std::string, int>& number_;
  std::string name_;
  int photo_ = -1;
};

/// Keypoints from elsewhere, photo by photo: their places, and which place an id is at.
struct ForeignKeypoints {
  std::vector<std::unordered_map<std::string, int>> index;
  std::vector<std::vector<Eigen::Vector2d>> x;
};

/// Throws Error where an image point lies outside its photo.
void check_inside(const std::string& where, const std::string& what, const Eigen::Vector2d& x, const Photo& photo) {
  if (!(x.x() >= 0 && x.y() >= 0 && x.x() <= photo.width && x.y() <= photo.height))
    throw Error("{}: {} lies outside '{}' ({} x {} pixels, origin at the top left corner); correct it", where, what,
                photo.image, photo.width, photo.height);
}

ForeignKeypoints read_foreign_keypoints(const fs::path& file, const std::vector<const Photo*>& photos,
                                        const std::map<std::string, int>& number) {
  CsvReader table(file, {"image", "id", "x", "y"});
  PhotoColumn image(table, "image", number);
  const std::size_t id = *table.column("id"), x = *table.column("x"), y = *table.column("y");
  ForeignKeypoints out{std::vector<std::unordered_map<std::string, int>>(number.size()),
                       std::vector<std::vector<Eigen::Vector2d>>(number.size())};
  while (table.next()) {
    const int photo = image.photo();
    if (photo < 0) continue;
    const Eigen::Vector2d place(table.required_number(x), table.required_number(y));
    check_inside(table.where(), fmt::format("keypoint '{}'", table.text(id)), place, *photos[photo]);
    std::vector<Eigen::Vector2d>& places = out.x[photo];
    if (places.empty() || places.back() != place)
      places.push_back(place);  // several directions at one place are one ray
    if (!out.index[photo].emplace(table.required_text(id), static_cast<int>(places.size()) - 1).second)
      throw Error("{}: keypoint '{}' of '{}' comes twice", table.where(), table.text(id),
                  table.text(*table.column("image")));
  }
  return out;
}

std::vector<match::PairMatches> read_foreign_matches(const fs::path& file, const std::map<std::string, int>& number,
                                                     const ForeignKeypoints& keypoints) {
  CsvReader table(file, {"image_a", "id_a", "image_b", "id_b"});
  PhotoColumn image_a(table, "image_a", number), image_b(table, "image_b", number);
  const std::size_t id_a = *table.column("id_a"), id_b = *table.column("id_b");
  const auto find = [&](int photo, std::size_t column) {
    const auto found = keypoints.index[photo].find(std::string(table.required_text(column)));
    if (found == keypoints.index[photo].end())
      throw Error("{}: keypoint '{}' is not in keypoints.csv", table.where(), table.text(column));
    return found->second;
  };
  std::map<std::pair<int, int>, std::vector<match::Match>> pairs;
  while (table.next()) {
    const int a = image_a.photo(), b = image_b.photo();
    if (a < 0 || b < 0 || a == b) continue;
    const int ia = find(a, id_a), ib = find(b, id_b);
    if (a < b)
      pairs[{a, b}].push_back({ia, ib});
    else
      pairs[{b, a}].push_back({ib, ia});
  }
  std::vector<match::PairMatches> out;
  for (auto& [pair, found] : pairs) out.push_back({pair.first, pair.second, std::move(found)});
  return out;
}

/// Tie points from a folder with keypoints.csv and matches.csv, as the text of a ties.csv.
std::string joined(const fs::path& folder, const PhotoTable& table) {
  const std::vector<const Photo*> photos = table.kept();
  const auto number = numbers_of(photos);
  ForeignKeypoints keypoints = read_foreign_keypoints(folder / "keypoints.csv", photos, number);
  const auto list = read_foreign_matches(folder / "matches.csv", number, keypoints);
  keypoints.index.clear();
  const std::vector<std::vector<Eigen::Vector2d>>& x = keypoints.x;
  std::vector<std::size_t> counts;
  for (const auto& points : x) counts.push_back(points.size());
  std::string text = "image,point,x,y\n";
  std::size_t n = 0;
  for (const match::TiePoint& point : match::join_matches(counts, list)) {
    for (const match::TieRay& ray : point)
      text += fmt::format("{},M{:06d},{},{}\n", csv_field(photos[ray.photo]->image), n,
                          csv_pixels(x[ray.photo][ray.keypoint].x()), csv_pixels(x[ray.photo][ray.keypoint].y()));
    ++n;
  }
  return text;
}

/// Rows of an imported file that are wrong one by one: outside their photo, not a number, a point twice in a photo.
struct WrongRows {
  std::size_t rows = 0;           ///< all of the file
  std::vector<std::string> what;  ///< a sentence each
  /// Says the first three; refuses a file where more than one row in ten is wrong, which is another file than it says.
  void tell(const fs::path& file, Progress& progress) const {
    if (what.empty()) return;
    if (10 * what.size() > rows)
      throw Error("{}: {} of its {} rows are wrong, the first: {}", file.string(), what.size(), rows, what.front());
    const std::size_t shown = std::min<std::size_t>(3, what.size());
    progress.say(fmt::format("{} {} left out as wrong: {}{}", what.size(), what.size() == 1 ? "row is" : "rows are",
                             fmt::join(what.begin(), what.begin() + static_cast<std::ptrdiff_t>(shown), "; "),
                             what.size() > shown ? fmt::format("; and {} more", what.size() - shown) : ""));
  }
};

/// Points of a file of ties that two photos of the survey see. Throws Error where a tenth of its rows is wrong, or no
/// point is left.
void add_ties_of(const fs::path& file, const PhotoTable& table, TieTable& out, Progress& progress) {
  CsvReader csv(file, {"image", "point", "x", "y"});
  const std::vector<const Photo*> kept = table.kept();
  const auto number = numbers_of(kept);
  PhotoColumn image(csv, "image", number);
  const std::size_t point_column = *csv.column("point"), x = *csv.column("x"), y = *csv.column("y");
  const auto sigma = csv.column("sigma");
  std::map<std::string, TieTable::Point> points;
  std::size_t skipped = 0;
  WrongRows wrong;
  const auto take_row = [&] {
    const int photo = image.photo();
    if (photo < 0) {
      ++skipped;
      return;
    }
    const std::string name(csv.required_text(point_column));
    const TieTable::Ray ray{
        photo, {csv.required_number(x), csv.required_number(y)}, sigma ? csv.number(*sigma).value_or(nan) : nan};
    const Photo& seen_in = *kept[static_cast<std::size_t>(photo)];
    TieTable::Point& point = points[name];
    point.name = name;
    if (std::any_of(point.rays.begin(), point.rays.end(), [&](const TieTable::Ray& r) { return r.photo == photo; }))
      throw Error("{}: tie point '{}' has two places in '{}'; keep one", csv.where(), name, seen_in.image);
    check_inside(csv.where(), fmt::format("tie point '{}'", name), ray.x, seen_in);
    check_sigma(ray.sigma, least_sigma_px, "px", csv.where(), fmt::format("tie point '{}'", name));
    point.rays.push_back(ray);
  };
  while (csv.next()) {
    ++wrong.rows;
    try {
      take_row();
    } catch (const Error& error) {
      wrong.what.emplace_back(error.what());
    }
  }
  wrong.tell(file, progress);
  std::size_t added = 0;
  for (auto& [name, point] : points)
    if (point.rays.size() >= 2) out.points.push_back(std::move(point)), ++added;
  if (skipped) progress.say(fmt::format("ties.csv: {} rows name photos that take no part", skipped));
  if (added == 0)
    throw Error("{}: no tie point is seen in two photos of this survey; check the image names", file.string());
}

/// Takes ties from elsewhere into inputs/, once all of them are known to make sense: what is refused leaves no trace.
void keep_import(const Survey& survey, const PhotoTable& table, const fs::path& source) {
  if (!fs::exists(source))
    throw Error("{}: does not exist; name a ties.csv, or a folder with keypoints.csv and matches.csv", source.string());
  TieTable trial;
  Progress quiet;
  if (!fs::is_directory(source)) {
    add_ties_of(source, table, trial, quiet);
    write_file(imported_ties(survey), read_file(source));
    return;
  }
  const std::string text = joined(source, table);
  if (text.find('\n') + 1 == text.size())
    throw Error("{}: no match is between two photos of this survey; check the image names", source.string());
  const fs::path scratch = scratch_path(imported_ties(survey));
  write_file(scratch, text);
  try {
    add_ties_of(scratch, table, trial, quiet);
  } catch (const Error& error) {
    drop_scratch(scratch);
    throw Error("{}: its keypoints and matches cannot be taken: {}", source.string(), error.what());
  }
  commit_file(scratch, imported_ties(survey));
}

/// Keypoints with several directions stand one behind the other at the same place; matches of any of them are matches
/// of the first, so that they are one ray.
std::vector<std::int32_t> first_of_place(const keypoint::Keypoints& keys) {
  std::vector<std::int32_t> out(keys.points.size());
  for (std::size_t i = 0; i < out.size(); ++i) {
    const bool same = i > 0 && keys.points[i].x == keys.points[i - 1].x && keys.points[i].y == keys.points[i - 1].y;
    out[i] = same ? out[i - 1] : static_cast<std::int32_t>(i);
  }
  return out;
}

struct Matching {
  std::vector<keypoint::Keypoints> keys;  ///< without descriptors
  std::vector<match::PairMatches> pairs;
  std::size_t planned = 0, verified = 0, contradicted = 0;
};

/// Finds keypoints, plans pairs, matches and verifies them; a pair that the photos around contradict is taken out.
Matching match_survey(const Survey& survey, const PhotoTable& table, const TieOptions& options, Progress& progress) {
  const std::vector<const Photo*> photos = table.kept();
  const int limit = keypoints_of(survey, options);
  find_keypoints(survey, photos, limit, progress);
  const match::Pairs planned = plan(survey, table, options.pairs, limit, progress);
  const std::vector<MatchItem> items = match_items(survey, table, planned, limit);
  match_photos(survey, table, items, limit, progress);
  Matching out;
  out.planned = planned.size();
  std::set<fs::path> used;
  std::vector<std::size_t> counts;
  std::vector<std::vector<std::int32_t>> first;
  for (const Photo* p : photos) {
    used.insert(keypoint_item(survey, *p, limit));
    out.keys.push_back(read_keypoints(keypoint_item(survey, *p, limit)));
    out.keys.back().descriptors = {};
    counts.push_back(out.keys.back().points.size());
    first.push_back(first_of_place(out.keys.back()));
  }
  const auto number = numbers_of(photos);
  MatchedPairs matched;
  for (const MatchItem& item : items) {
    used.insert(item.file);
    matched.items.emplace_back(photos[item.photo]->image, item.file.filename().string());
    for (match::PairMatches& pair : read_matches(item.file, item.photo, number)) {
      for (match::Match& m : pair.matches) m.a = first[pair.a][m.a], m.b = first[pair.b][m.b];
      out.verified += !pair.matches.empty();
      out.pairs.push_back(std::move(pair));
    }
  }
  std::vector<char> before;
  for (const match::PairMatches& pair : out.pairs) before.push_back(!pair.matches.empty());
  out.contradicted = match::drop_contradicted(counts, out.pairs);
  for (std::size_t p = 0; p < out.pairs.size(); ++p)
    if (before[p] && out.pairs[p].matches.empty())
      matched.dropped.emplace_back(photos[out.pairs[p].a]->image, photos[out.pairs[p].b]->image);
  save_matched_pairs(survey, matched);
  survey.store.sweep("keypoints", used);
  survey.store.sweep("matches", used);
  return out;
}

void add_matched(const Matching& matching, TieTable& ties) {
  std::vector<std::size_t> counts;
  for (const keypoint::Keypoints& k : matching.keys) counts.push_back(k.points.size());
  // Names of imported points stay theirs.
  const bool taken = std::any_of(ties.points.begin(), ties.points.end(),
                                 [](const TieTable::Point& p) { return p.name.rfind("T", 0) == 0; });
  std::size_t n = 0;
  for (const match::TiePoint& point : match::join_matches(counts, matching.pairs)) {
    TieTable::Point out{fmt::format("{}{:06d}", taken ? "TT" : "T", n++), {}, true};
    for (const match::TieRay& ray : point) {
      const keypoint::Keypoint& k = matching.keys[ray.photo].points[ray.keypoint];
      out.rays.push_back({ray.photo, {k.x, k.y}, nan});
    }
    ties.points.push_back(std::move(out));
  }
}

/// Chooses the points that the block is adjusted with. Sixteen rays in each of 108 cells of a photo are some two
/// thousand a photo: more cost time in every iteration and say what the others said. The first `imported` points are
/// always in.
void choose(const PhotoTable& table, std::size_t imported, TieTable& ties) {
  // 1,728 rays a photo at most, spread over all of it
  constexpr int columns = 12, rows = 9, rays_per_cell = 16;
  const std::vector<const Photo*> photos = table.kept();
  std::vector<std::vector<std::uint32_t>> cells(ties.points.size());
  for (std::size_t p = 0; p < ties.points.size(); ++p)
    for (const TieTable::Ray& r : ties.points[p].rays) {
      const int c = std::clamp(static_cast<int>(r.x.x() * columns / photos[r.photo]->width), 0, columns - 1);
      const int row = std::clamp(static_cast<int>(r.x.y() * rows / photos[r.photo]->height), 0, rows - 1);
      cells[p].push_back(static_cast<std::uint32_t>((r.photo * rows + row) * columns + c));
    }
  const std::vector<char> chosen = match::choose_spread(cells, photos.size() * columns * rows, rays_per_cell);
  for (std::size_t p = 0; p < chosen.size(); ++p) ties.points[p].chosen = p < imported || chosen[p];
}

/// Photos that nothing ties, by name.
void say_untied(const TieTable& ties, Progress& progress) {
  std::vector<std::size_t> rays(ties.images.size(), 0);
  for (const TieTable::Point& p : ties.points)
    for (const TieTable::Ray& r : p.rays) ++rays[r.photo];
  for (std::size_t i = 0; i < rays.size(); ++i)
    if (rays[i] == 0) progress.say(fmt::format("{} is tied to no other photo", ties.images[i]));
}

}  // namespace

std::string tie_fingerprint(const Survey& survey, const TieOptions& options) {
  const fs::path imported = imported_ties(survey);
  return fingerprint({tie_version, photos_fingerprint(survey), std::to_string(keypoints_of(survey, options)),
                      word_of(options.pairs), hash_or_empty(imported)});
}

Outcome<Tied> tie(Survey& survey, const TieOptions& options, Progress& progress) {
  if (keypoints_of(survey, options) < 100) throw Error("tie: --keypoints must be 100 or more");
  const PhotoTable table = load_photos(survey);
  if (!options.import_path.empty()) keep_import(survey, table, options.import_path);
  const std::string print = tie_fingerprint(survey, options);
  if (auto stands = standing<Tied>(survey, "tie", print)) return *stands;
  const std::vector<const Photo*> photos = table.kept();
  TieTable ties;
  for (const Photo* p : photos) ties.images.push_back(p->image);
  const bool imported = fs::exists(imported_ties(survey));
  const auto blind = std::find_if(photos.begin(), photos.end(), [](const Photo* p) { return p->path.empty(); });
  const bool matching = options.pairs != PairChoice::none && (blind == photos.end() || !imported);
  if (imported) add_ties_of(imported_ties(survey), table, ties, progress);
  const std::size_t by_hand = ties.points.size();
  Matching matched;
  if (matching) {
    if (blind != photos.end())
      throw Error("tie: photo '{}' has no pixels (it comes from a listing); give tie points with --import ties.csv",
                  (*blind)->image);
    if (photos.size() < 2)
      throw Error("tie: only one photo takes part ({}); admit more, or --keep some that were left out",
                  photos[0]->image);
    matched = match_survey(survey, table, options, progress);
    add_matched(matched, ties);
    if (matched.contradicted > 0)
      progress.say(fmt::format("{} pairs were taken out: the photos around contradict their matches (repeated texture)",
                               matched.contradicted));
  }
  if (ties.points.empty())
    throw Error("tie: no two photos match; check that they overlap and are sharp, or try --pairs all");
  choose(table, by_hand, ties);
  save_ties(survey, ties);
  say_untied(ties, progress);
  const std::vector<fs::path> figures = draw_ties(survey, table, ties);
  Outcome<Tied> out;
  Tied& t = out.result;
  std::size_t rays = 0;
  for (const keypoint::Keypoints& k : matched.keys) t.keypoints += k.points.size();
  for (const TieTable::Point& p : ties.points) rays += p.rays.size(), t.tie_points_chosen += p.chosen;
  t.pairs_planned = matched.planned, t.pairs_verified = matched.verified - matched.contradicted;
  t.pairs_contradicted = matched.contradicted, t.tie_points = ties.points.size();
  t.mean_rays = static_cast<double>(rays) / static_cast<double>(ties.points.size());
  t.keypoints_asked = keypoints_of(survey, options), t.pairs = options.pairs;
  survey.store.finish("tie", print, t, figures);
  return out;
}

}  // namespace mesograph::stages
