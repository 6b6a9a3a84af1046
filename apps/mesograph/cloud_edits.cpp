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
#include <mesograph/cloud/move.hpp>
#include <mesograph/cloud/tiles.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/control/control_file.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "cloud_actions.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

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

/// Of the file that the action reads; a wrong call is told before.
LasUnits units_of_file(Call& call) {
  cloud_files(call, ".las");
  return units_of(call, cloud::LasReader(call.paths()[1]).header());
}

void read_ground(const Call& call, const LasUnits& units, cloud::GroundOptions& options) {
  options.largest = length_of(call, units, "largest", options.largest, 0.1);
  options.tolerance = height_of(call, units, "tolerance", options.tolerance, 0);
  options.steepest = number_of(call, "steepest", options.steepest, 0);
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

/// The best point of each cube stays.
cloud::JudgeOptions thinning(double spacing) {
  cloud::JudgeOptions out;
  out.align = spacing, out.word_of_strays = 1, out.fate_of_strays = "they stay";
  return out;
}

std::string words_of(const geo::DatumShift& shift) {
  if (shift.name.empty()) return "one datum, so no operation between datums";
  return fmt::format("'{}', accuracy {}", shift.name,
                     shift.accuracy >= 0 ? fmt::format("{:g} m", shift.accuracy) : "not stated");
}

cloud::Brought bring(cloud::LasReader& file, const std::string& crs, const fs::path& out, Progress& progress) {
  try {
    return cloud::bring_into_crs(file, crs, out, progress);
  } catch (const cloud::OutOfRange& far) {
    throw Error("{}: {}", file.path().string(), far.what());
  }
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
  if (!call.number("spacing")) throw UsageError("cloud thin needs --spacing");
  const double spacing = length_of(call, units_of_file(call), "spacing", nan, 1e-6);
  run_judged(
      call, [=](const auto& points) { return cloud::thin(points, spacing); }, thinning(spacing), false);
}

void run_clean(Call& call) {
  cloud_files(call, ".las");  // a wrong call is told before the cloud is read
  cloud::CleanOptions options;
  options.max_sigma = height_of(call, units_of_file(call), "max-sigma", nan, 0);
  if (!call.has("max-sigma")) options.max_sigma = usual_max_sigma(call);
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
  read_ground(call, units_of_file(call), options);
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
  const LasUnits units = units_of_file(call);
  read_ground(call, units, options.ground);
  options.middle_plants = height_of(call, units, "middle-vegetation", options.middle_plants, 0);
  options.high_plants = height_of(call, units, "high-vegetation", options.high_plants, 0);
  if (options.high_plants < options.middle_plants)
    throw UsageError("--high-vegetation must be --middle-vegetation ({:g} m) or more", options.middle_plants);
  options.lowest_roof = height_of(call, units, "lowest-roof", options.lowest_roof, 0.1);
  options.least_roof = area_of(call, units, "least-roof", options.least_roof, 0.1);
  options.road_width = length_of(call, units, "road-width", options.road_width, 0.1);
  options.least_water = area_of(call, units, "least-water", options.least_water, 0.1);
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
  refuse_pattern(call, in);
  if (out.empty()) out = fs::path(in).replace_extension(".copc.laz");
  if (!out.string().ends_with(".copc.laz")) throw UsageError("--out {}: this is written as .copc.laz", out.string());
  std::error_code missing;
  if (fs::equivalent(in, out, missing)) throw UsageError("--out is the file that is read; give another name");
  cloud::LasReader file(in);
  say_oddities(call, file.oddities());
  cloud::OctreeOptions options;
  options.scratch = fs::absolute(out).parent_path();
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
  cloud_files(call, ".las");
  const LasUnits units = units_of_file(call);
  cloud::Movement movement;
  movement.by.z() = numbers_of(call, "by", {"METRES"})[0] * units.option.z() / units.metres.z();
  run_edit(call, [=](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, movement); });
}

namespace {

void run_move_to_crs(Call& call) {
  for (const char* other : {"by", "turn", "scale", "about", "box", "within", "class", "heights", "above"})
    if (call.has(other)) throw UsageError("--crs takes the whole cloud as it is; leave out --{}", other);
  const CloudFiles files = cloud_files(call, ".las");
  cloud::LasReader file(files.in);
  say_oddities(call, file.oddities());
  const cloud::Brought brought = bring(file, call.text("crs"), files.out, call.progress);
  tell_written(call, files.out, brought.points, brought.points);
  call.json["operation"] = brought.shift.name;
  if (brought.shift.accuracy >= 0) call.json["accuracy"] = brought.shift.accuracy;
  call.json["heights_kept"] = brought.heights_kept;
  call.lines.push_back(fmt::format("in {}: {}; heights {}", call.text("crs"), words_of(brought.shift),
                                   brought.heights_kept ? "as they were" : "by the geoids of both"));
}

/// What --by, --turn, --scale and --about say, in units of the file.
cloud::Movement movement_of(Call& call, const cloud::LasReader& file, const LasUnits& units) {
  cloud::Movement out;
  if (call.has("by")) {
    const std::vector<double> by = numbers_of(call, "by", {"EAST", "NORTH", "HEIGHT"});
    out.by = Eigen::Vector3d(by[0], by[1], by[2]).cwiseProduct(units.option).cwiseQuotient(units.metres);
  }
  out.turn_deg = call.number("turn").value_or(0);
  out.scale = call.number("scale").value_or(1);
  if (!std::isfinite(out.turn_deg)) throw UsageError("--turn must be a number of degrees, clockwise");
  if (!(out.scale > 0) || !std::isfinite(out.scale)) throw UsageError("--scale must be greater than 0");
  if (call.has("about")) {
    const std::vector<double> about = numbers_of(call, "about", {"EAST", "NORTH", "HEIGHT"});
    out.about = {about[0], about[1], about[2]};
  } else if (out.turn_deg != 0 || out.scale != 1) {
    out.about = file.header().box.center();
    call.progress.say(fmt::format("turned and scaled about the middle, {:.3f}, {:.3f}, {:.3f}; --about names another",
                                  out.about.x(), out.about.y(), out.about.z()));
  }
  return out;
}

}  // namespace

void run_move(Call& call) {
  if (call.has("crs")) return run_move_to_crs(call);
  if (!call.has("by") && !call.has("turn") && !call.has("scale"))
    throw UsageError("cloud move needs --by EAST,NORTH,HEIGHT in m, --turn, --scale or --crs");
  const fs::path in = cloud_files(call, ".las").in;
  const cloud::LasReader file(in);
  cloud::metres_of(file.header(), in.string());  // of degrees nothing can be turned
  const cloud::Movement movement = movement_of(call, file, units_of(call, file.header()));
  run_edit(call, [=](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, movement); });
}

namespace {

/// Files beside the one that is written, which go whatever happens.
class Beside {
 public:
  explicit Beside(fs::path out) : out_(std::move(out)) {}
  ~Beside() {
    for (const fs::path& path : paths_) drop_scratch(path);
  }
  fs::path next() {
    paths_.push_back(scratch_path(fs::path(out_) += fmt::format("_{}", paths_.size())));
    return paths_.back();
  }

 private:
  fs::path out_;
  std::vector<fs::path> paths_;
};

/// The clouds to be joined, those in another CRS than --crs brought into it.
std::vector<cloud::LasReader> clouds_to_join(Call& call, Beside& beside) {
  std::vector<cloud::LasReader> out;
  for (std::size_t i = 1; i < call.paths().size(); ++i) {
    out.emplace_back(call.paths()[i]);
    if (!call.has("crs") || cloud::is_in(out.back().header(), call.text("crs"))) continue;
    const fs::path brought = beside.next();
    const cloud::Brought how = bring(out.back(), call.text("crs"), brought, call.progress);
    call.progress.say(fmt::format("{}: brought into {}: {}", call.paths()[i], call.text("crs"), words_of(how.shift)));
    out.pop_back(), out.emplace_back(brought);
  }
  return out;
}

}  // namespace

void run_join(Call& call) {
  if (call.paths().size() < 2 || (call.paths().size() == 2 && cloud::files_of_cloud(call.paths()[1]).size() < 2))
    throw UsageError("cloud join needs two files at least, as in mesograph cloud join a.las b.las");
  const fs::path out = cloud_out(call, call.paths()[1], ".las");
  Beside beside(out);
  std::vector<cloud::LasReader> files = clouds_to_join(call, beside);
  std::uint64_t all = 0;
  for (const cloud::LasReader& file : files) all += file.header().points;
  const double spacing = length_of(call, units_of(call, files.front().header()), "spacing", nan, 1e-6);
  const bool thinned = std::isfinite(spacing);
  const fs::path joined = thinned ? beside.next() : out;
  std::uint64_t kept = cloud::join(files, joined, call.progress);
  if (thinned) {
    cloud::LasReader file(joined);
    cloud::JudgeOptions judging = thinning(spacing);
    judging.scratch = fs::absolute(out).parent_path();
    const Words words = cloud::judge_points(
        file, judging, [=](const auto& points) { return cloud::thin(points, spacing); }, call.progress);
    kept = cloud::write_judged(file, words, false, out);
  }
  tell_written(call, out, kept, all);
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
  const double reach = length_of(call, units_of(call, file.header()), "reach", 0.3, 1e-6);
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
