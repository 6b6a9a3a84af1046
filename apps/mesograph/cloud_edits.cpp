#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/class_check.hpp>
#include <mesograph/cloud/classify.hpp>
#include <mesograph/cloud/copc.hpp>
#include <mesograph/cloud/filters.hpp>
#include <mesograph/cloud/heights_at.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/control/control_file.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "cloud_actions.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// What points are judged to be by what lies around them.
using Words = std::vector<std::uint8_t>;

/// The actions that keep some points, or name their classes, by what lies around them.
Words run_judged(Call& call, const cloud::Judge& judge, cloud::JudgeOptions options, bool as_class) {
  const CloudFiles files = cloud_files(call, ".las");
  cloud::LasReader file(files.in);
  say_oddities(call, file.oddities());
  options.scratch = fs::absolute(files.out).parent_path();
  Words words = cloud::judge_points(file, options, judge, call.progress);
  const std::uint64_t kept = cloud::write_judged(file, words, as_class, files.out);
  tell_written(call, files.out, kept, file.header().points);
  return words;
}

/// The limit where nobody sets one, said.
double usual_max_sigma(Call& call) {
  cloud::LasReader file(call.paths()[1]);
  const cloud::UsualLimit limit = cloud::usual_limit(file);
  if (!(limit.max_sigma > 0)) return nan;
  call.progress.say(
      fmt::format("points less sure than {:.3f} m go, {:g} times the median; --max-sigma sets another limit",
                  limit.max_sigma, limit.times));
  return limit.max_sigma;
}

/// Classes by what people call them.
std::set<std::uint8_t> classes_of(const std::vector<std::string>& names) {
  static const std::map<std::string, std::set<std::uint8_t>> known = {
      {"ground", {cloud::class_ground}},
      {"vegetation", {cloud::class_low_plants, cloud::class_middle_plants, cloud::class_high_plants}},
      {"building", {cloud::class_building}},
      {"road", {cloud::class_road}},
      {"water", {cloud::class_water}},
      {"noise", {cloud::class_low_noise, cloud::class_high_noise}},
      {"other", {cloud::class_other}}};
  std::set<std::uint8_t> out;
  for (const std::string& name : names) {
    const auto found = known.find(name);
    if (found == known.end()) {
      std::vector<std::string> words;
      for (const auto& [word, classes] : known) words.push_back(word);
      throw UsageError("--only {}: give some of {}", name, fmt::join(words, ", "));
    }
    out.insert(found->second.begin(), found->second.end());
  }
  return out;
}

/// Numbers with commas between, as many as `names` has. Throws UsageError.
std::vector<double> numbers_of(const Call& call, const char* option, const std::vector<const char*>& names) {
  std::vector<double> out;
  for (const std::string& part : split_list(call.text(option), ',')) {
    char* end = nullptr;
    out.push_back(std::strtod(part.c_str(), &end));
    if (part.empty() || *end != '\0') out.push_back(nan);  // too many, then
  }
  if (out.size() != names.size() || !std::all_of(out.begin(), out.end(), [](double v) { return std::isfinite(v); }))
    throw UsageError("--{} {}: write {}", option, call.text(option), fmt::join(names, ","));
  return out;
}

/// A low and a high end, m. Throws UsageError.
std::pair<double, double> range_of(const Call& call, const char* option) {
  const std::vector<double> ends = numbers_of(call, option, {"LOW", "HIGH"});
  if (!(ends[0] < ends[1])) throw UsageError("--{} {}: the lower end comes first", option, call.text(option));
  return {ends[0], ends[1]};
}

std::uint8_t class_number(const std::string& text, const char* option) {
  char* end = nullptr;
  const long value = std::strtol(text.c_str(), &end, 10);
  if (text.empty() || *end != '\0' || value < 0 || value > 255)
    throw UsageError("--{} {}: give a class as LAS counts them, 0 to 255", option, text);
  return static_cast<std::uint8_t>(value);
}

/// What --box, --within, --outside, --class and --heights say.
cloud::Selection selection_of(const Call& call, const cloud::LasReader& file) {
  if (call.has("box") && call.has("within")) throw UsageError("give --box or --within, not both");
  cloud::Selection out;
  if (call.has("box")) out.region = cloud::Region::parse_box(call.text("box"));
  if (call.has("within")) out.region = cloud::Region::read(call.text("within"), file.header().crs());
  out.outside = call.has("outside");
  if (out.outside && out.region.everything()) throw UsageError("--outside goes with --box or --within");
  for (const std::string& word : call.list("class")) out.classes.insert(class_number(word, "class"));
  if (call.has("heights")) {
    const double metres = cloud::units_of(file.header()).metres.z();
    const auto [low, high] = range_of(call, "heights");
    out.low = low / metres, out.high = high / metres;
  }
  return out;
}

/// What --above says of the points: heights above the ground.
Words words_above(Call& call, cloud::LasReader& file, const fs::path& out) {
  if (!call.has("above")) return {};
  const auto [low, high] = range_of(call, "above");
  cloud::JudgeOptions judging;
  judging.rim = 20;  // m: as far as the ground goes on under a roof
  judging.scratch = fs::absolute(out).parent_path();
  bool any = false;
  file.rewind();
  for (auto points = file.next(); !any && points.size() > 0; points = file.next())
    for (std::size_t i = 0; i < points.size(); ++i)
      any = any || points.point_class(i) == cloud::class_ground || points.point_class(i) == cloud::class_road;
  if (!any)
    throw Error(
        "{}: no point is ground (class 2), above which --above could count; make it with mesograph cloud ground",
        file.path().string());
  return cloud::judge_points(
      file, judging, [=, low = low, high = high](const auto& points) { return cloud::above_ground(points, low, high); },
      call.progress);
}

/// The actions that change selected points and write all.
void run_edit(Call& call, const std::function<void(cloud::LasPoints&, std::size_t)>& edit) {
  const CloudFiles files = cloud_files(call, ".las");
  cloud::LasReader file(files.in);
  say_oddities(call, file.oddities());
  const cloud::Selection selection = selection_of(call, file);
  const Words words = words_above(call, file, files.out);
  std::uint64_t changed = 0;
  try {
    changed = cloud::edit_points(file, selection, words, edit, files.out, call.progress);
  } catch (const cloud::OutOfRange& far) {
    throw Error("{}: {}", files.in.string(), far.what());
  }
  tell_written(call, files.out, file.header().points, file.header().points);
  call.json["changed"] = changed;
  call.lines.back() += fmt::format(", {} changed", changed);
}

std::string share(double value) { return std::isfinite(value) ? fmt::format("{:.1f} %", 100 * value) : "-"; }

/// The places that --check names; none where it is not given.
std::vector<cloud::ClassSample> sample_to_check(const Call& call) {
  if (!call.has("check")) return {};
  const fs::path path = call.text("check");
  std::vector<cloud::ClassSample> out;
  if (path.extension() == ".las" || path.extension() == ".laz") {
    cloud::LasReader drawn(path);
    out = cloud::sample_of(drawn);
  } else {
    out = cloud::read_sample(path);
  }
  if (out.empty()) throw Error("{}: holds no place whose class is known", path.string());
  return out;
}

/// How the classes of a file fit a sample.
void check_against(Call& call, const std::vector<cloud::ClassSample>& sample, const fs::path& classified) {
  if (sample.empty()) return;
  cloud::LasReader file(classified);
  const double reach = 0.5 / cloud::metres_of(file.header(), classified.string()).x();
  const cloud::Confusion found = cloud::check_classes(file, sample, reach, call.progress);
  std::set<int> classes;
  auto& rows = call.json["check"]["confusion"] = Json::array();
  for (const auto& [pair, n] : found.count) {
    classes.insert(pair.first), classes.insert(pair.second);
    rows.push_back({{"true", pair.first}, {"said", pair.second}, {"places", n}});
  }
  call.json["check"]["places"] = sample.size();
  call.json["check"]["without_points"] = found.nowhere;
  call.lines.push_back(fmt::format("{}: {} places, {} of them with no point within 0.5 m", call.text("check"),
                                   sample.size(), found.nowhere));
  std::string heading = "true \\ said";
  for (const int said : classes) heading += fmt::format("{:>9}", said);
  call.lines.push_back(heading + "   recall  precision");
  for (const int of : classes) {
    std::string line = fmt::format("{:>4} {:<6}", of, "");
    for (const int said : classes) {
      const auto n = found.count.find({of, said});
      line += fmt::format("{:>9}", n == found.count.end() ? 0 : n->second);
    }
    const double recall = found.recall(of), precision = found.precision(of);
    call.lines.push_back(line + fmt::format("{:>9}{:>11}", share(recall), share(precision)));
    Json& figures = call.json["check"]["classes"][std::to_string(of)];
    figures["recall"] = std::isfinite(recall) ? Json(recall) : Json();
    figures["precision"] = std::isfinite(precision) ? Json(precision) : Json();
  }
}

void tell_classes(Call& call, const Words& words, const cloud::LasReader& file) {
  std::map<int, std::uint64_t> counts;
  for (const std::uint8_t word : words) ++counts[word];
  for (const auto& [of, n] : counts) {
    call.json["classes"][std::to_string(of)] = n;
    call.lines.push_back(fmt::format("class {:>3} {:<18} {:>10}  {:5.1f} %", of, draw::class_name(of), n,
                                     100.0 * static_cast<double>(n) / static_cast<double>(file.header().points)));
  }
}

}  // namespace

void run_cut(Call& call) {
  const CloudFiles files = cloud_files(call, ".las");
  if (!call.has("box") && !call.has("within") && !call.has("class") && !call.has("heights") && !call.has("above"))
    throw UsageError("cloud cut needs --box W,S,E,N, --within FILE, --class N, --heights LOW,HIGH or --above LOW,HIGH");
  cloud::LasReader file(files.in);
  say_oddities(call, file.oddities());
  const cloud::Selection selection = selection_of(call, file);
  const Words words = words_above(call, file, files.out);
  // Of a cloud in an octree's order what lies elsewhere is not read; words are of all points.
  if (words.empty() && !selection.outside && !selection.region.everything()) file.only(selection.region.box());
  const std::uint64_t kept = cloud::cut(file, selection, words, files.out, call.progress);
  tell_written(call, files.out, kept, file.header().points);
}

void run_thin(Call& call) {
  const double spacing = number_of(call, "spacing", nan, 1e-6);
  if (!std::isfinite(spacing)) throw UsageError("cloud thin needs --spacing");
  cloud::JudgeOptions judging;
  judging.align = spacing, judging.word_of_strays = 1, judging.fate_of_strays = "they stay";
  run_judged(
      call, [=](const auto& points) { return cloud::thin(points, spacing); }, judging, false);
}

void run_clean(Call& call) {
  cloud_files(call, ".las");  // a wrong call is told before the cloud is read
  cloud::CleanOptions options;
  options.max_sigma = call.has("max-sigma") ? number_of(call, "max-sigma", nan, 0) : usual_max_sigma(call);
  options.min_rays = call.whole("min-rays").value_or(0);
  options.spreads = number_of(call, "spreads", options.spreads, 0);
  options.least_group = call.whole("least-group").value_or(options.least_group);
  cloud::JudgeOptions judging;
  judging.rim = 2;  // m: far more than the gap between groups at any usual spacing
  judging.fate_of_strays = "they go";
  run_judged(
      call, [=](const auto& points) { return cloud::clean(points, options); }, judging, false);
}

void run_ground(Call& call) {
  cloud::GroundOptions options;
  options.largest = number_of(call, "largest", options.largest, 0.1);
  options.tolerance = number_of(call, "tolerance", options.tolerance, 0);
  options.steepest = number_of(call, "steepest", options.steepest, 0);
  cloud::JudgeOptions judging;
  judging.rim = cloud::ground_rim(options);
  judging.word_of_strays = cloud::class_other, judging.fate_of_strays = "they are no ground";
  const Words words = run_judged(
      call, [&](const auto& points) { return cloud::ground(points, options, call.progress); }, judging, true);
  const auto grounded = static_cast<std::uint64_t>(std::count(words.begin(), words.end(), cloud::class_ground));
  call.json["ground"] = grounded;
  call.lines.push_back(fmt::format("ground (class 2): {}, other (class 1): {}", grounded, words.size() - grounded));
}

void run_classify(Call& call) {
  const CloudFiles files = cloud_files(call, ".las");
  if (call.has("set") != call.has("within")) throw UsageError("--set goes with --within, whose polygons it is for");
  cloud::ClassifyOptions options;
  options.ground.largest = number_of(call, "largest", options.ground.largest, 0.1);
  options.ground.tolerance = number_of(call, "tolerance", options.ground.tolerance, 0);
  options.ground.steepest = number_of(call, "steepest", options.ground.steepest, 0);
  options.middle_plants = number_of(call, "middle-vegetation", options.middle_plants, 0);
  options.high_plants = number_of(call, "high-vegetation", options.high_plants, options.middle_plants);
  options.lowest_roof = number_of(call, "lowest-roof", options.lowest_roof, 0.1);
  options.least_roof = number_of(call, "least-roof", options.least_roof, 0.1);
  options.road_width = number_of(call, "road-width", options.road_width, 0.1);
  options.least_water = number_of(call, "least-water", options.least_water, 0.1);
  options.only = classes_of(call.list("only"));
  const std::vector<cloud::ClassSample> sample = sample_to_check(call);  // a wrong one is told before the work
  cloud::LasReader file(files.in);
  say_oddities(call, file.oddities());
  cloud::JudgeOptions judging;
  judging.rim = cloud::classify_rim(options), judging.scratch = fs::absolute(files.out).parent_path();
  judging.fate_of_strays = "they are noise";
  judging.word_of_strays = options.only.empty() || options.only.contains(cloud::class_high_noise)
                               ? cloud::class_high_noise
                               : cloud::class_kept;
  Words words = cloud::judge_points(
      file, judging, [&](const auto& points) { return cloud::classify(points, options, call.progress); },
      call.progress);
  if (call.has("set")) {
    const std::uint8_t to = class_number(call.text("set"), "set");
    const cloud::Selection selection = selection_of(call, file);
    file.rewind();
    std::uint64_t first = 0;
    for (auto points = file.next(); points.size() > 0; first += points.size(), points = file.next())
      for (std::size_t i = 0; i < points.size(); ++i)
        if (selection.takes(points, i)) words[first + i] = to;
  }
  const std::uint64_t kept = cloud::write_judged(file, words, true, files.out);
  tell_written(call, files.out, kept, file.header().points);
  tell_classes(call, words, file);
  check_against(call, sample, files.out);
}

void run_stream(Call& call) {
  if (call.paths().size() != 2)
    throw UsageError("cloud stream needs one file, as in mesograph cloud stream results/cloud.las");
  const fs::path in = call.paths()[1];
  fs::path out = call.text("out");
  if (out.empty()) out = fs::path(in).replace_extension(".copc.laz");
  if (!out.string().ends_with(".copc.laz")) throw UsageError("--out {}: this is written as .copc.laz", out.string());
  std::error_code missing;
  if (fs::equivalent(in, out, missing)) throw UsageError("--out is the file that is read; give another name");
  cloud::LasReader file(in);
  say_oddities(call, file.oddities());
  cloud::OctreeOptions options;
  options.scratch = fs::absolute(out).parent_path();
  if (file.header().points > options.in_memory)
    call.progress.say(fmt::format("some {:.1f} GB wait in {} meanwhile",
                                  static_cast<double>(file.header().points * file.header().record_length) / 1e9,
                                  options.scratch.string()));
  const std::size_t nodes = cloud::write_octree(file, out, options, call.progress);
  tell_written(call, out, file.header().points, file.header().points);
  call.json["nodes"] = nodes;
  call.lines.back() += fmt::format(" in {} nodes, {:.2f} bytes a point", nodes,
                                   static_cast<double>(fs::file_size(out)) / static_cast<double>(file.header().points));
}

void run_set(Call& call) {
  if (!call.has("set")) throw UsageError("cloud set needs --set CLASS, as in --set 9 --within ponds.gpkg");
  const std::uint8_t to = class_number(call.text("set"), "set");
  run_edit(call, [=](cloud::LasPoints& points, std::size_t i) { points.set_class(i, to); });
}

void run_shift(Call& call) {
  if (!call.has("by")) throw UsageError("cloud shift needs --by METRES, upwards positive");
  const double by = numbers_of(call, "by", {"METRES"})[0];
  const double metres = cloud::units_of(cloud::LasReader(cloud_files(call, ".las").in).header()).metres.z();
  run_edit(call, [=](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, {0, 0, by / metres}); });
}

void run_move(Call& call) {
  if (!call.has("by")) throw UsageError("cloud move needs --by EAST,NORTH,HEIGHT, m");
  const std::vector<double> by = numbers_of(call, "by", {"EAST", "NORTH", "HEIGHT"});
  const fs::path in = cloud_files(call, ".las").in;
  const Eigen::Vector3d metres = cloud::metres_of(cloud::LasReader(in).header(), in.string());
  const Eigen::Vector3d units = Eigen::Vector3d(by[0], by[1], by[2]).cwiseQuotient(metres);
  run_edit(call, [=](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, units); });
}

void run_join(Call& call) {
  if (call.paths().size() < 3)
    throw UsageError("cloud join needs two files at least, as in mesograph cloud join a.las b.las");
  const fs::path out = cloud_out(call, call.paths()[1], ".las");
  std::vector<cloud::LasReader> files;
  std::uint64_t all = 0;
  for (std::size_t i = 1; i < call.paths().size(); ++i) {
    files.emplace_back(call.paths()[i]);
    all += files.back().header().points;
  }
  tell_written(call, out, cloud::join(files, out, call.progress), all);
}

void run_compare_points(Call& call) {
  if (call.paths().size() != 3)
    throw UsageError(
        "cloud compare-points needs a cloud and surveyed points, as in mesograph cloud compare-points "
        "results/cloud.las control.csv");
  const fs::path in = call.paths()[1], out = cloud_out(call, in, ".csv");
  cloud::LasReader file(in);
  say_oddities(call, file.oddities());
  const Eigen::Vector3d metres = cloud::metres_of(file.header(), in.string());
  const control::ControlFile control = control::read_control_file(call.paths()[2]);
  if (control.coordinates != control::Coordinates::grid)
    throw Error("{}: its coordinates are no east and north; give them in the cloud's CRS", call.paths()[2]);
  std::vector<Eigen::Vector2d> places;
  for (const auto& p : control.points) places.emplace_back(p.east * metres.x(), p.north * metres.y());
  const double reach = number_of(call, "reach", 0.3, 1e-6);
  const std::vector<cloud::HeightAt> found = cloud::heights_at(file, places, reach, call.progress);
  std::string table = "id,east,north,height,cloud,difference,spread,points\n";
  double sum = 0, squares = 0;
  std::size_t n = 0;
  call.json["points"] = Json::array();
  for (std::size_t i = 0; i < found.size(); ++i) {
    const auto& p = control.points[i];
    const double height = p.height * metres.z(), difference = found[i].height - height;
    table +=
        fmt::format("{},{:.4f},{:.4f},{},{},{},{},{}\n", csv_field(p.id), p.east, p.north, csv_length(height),
                    csv_length(found[i].height), csv_length(difference), csv_length(found[i].spread), found[i].points);
    if (!std::isfinite(difference)) continue;
    sum += difference, squares += difference * difference, ++n;
    call.json["points"].push_back({{"id", p.id}, {"difference", difference}, {"spread", found[i].spread}});
    call.lines.push_back(fmt::format("{:<12} {:+.4f} m  (plane through {} points, spread {:.4f} m)", p.id, difference,
                                     found[i].points, found[i].spread));
  }
  if (n == 0)
    throw Error(
        "{}: at none of the {} points of {} does the cloud have three points within {:g} m; check its CRS, and "
        "--reach",
        in.string(), found.size(), call.paths()[2], reach);
  write_file(out, table);
  const auto count = static_cast<double>(n);
  call.json["file"] = out.string(), call.json["compared"] = n, call.json["without_cloud"] = found.size() - n;
  call.json["mean"] = sum / count, call.json["rmse"] = std::sqrt(squares / count);
  call.lines.push_back(fmt::format("{}: {} of {} points, cloud less survey: mean {:+.4f} m, RMSE {:.4f} m",
                                   out.string(), n, found.size(), sum / count, std::sqrt(squares / count)));
}

}  // namespace mesograph::app
