#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/section.hpp>
#include <mesograph/cloud/tiles.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "cloud_actions.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

CloudFiles cloud_files(Call& call, const char* ending) {
  if (call.paths().size() != 2)
    throw UsageError("cloud {} needs one file, as in mesograph cloud {} results/cloud.las", call.paths()[0],
                     call.paths()[0]);
  const fs::path in = call.paths()[1];
  return {in, cloud_out(call, in, ending)};
}

fs::path cloud_out(const Call& call, const fs::path& in, const char* ending) {
  fs::path out = call.text("out");
  refuse_pattern(call, in);
  // A compressed cloud stays one.
  const bool cloud = std::string_view(ending) == ".las", compressed = cloud && in.extension() == ".laz";
  if (out.empty())
    out = fs::path(in).replace_extension() += fmt::format("_{}{}", call.paths()[0], compressed ? ".laz" : ending);
  if (out.extension() != ending && (!cloud || out.extension() != ".laz"))
    throw UsageError("--out {}: this is written as {}{}", out.string(), ending, cloud ? " or .laz" : "");
  std::error_code missing;
  for (std::size_t i = 1; i < call.paths().size(); ++i)
    for (const fs::path& read : cloud::files_of_cloud(call.paths()[i]))
      if (fs::equivalent(read, out, missing))
        throw UsageError("--out is a file that is read; give another name, the cloud is not overwritten");
  return out;
}

void refuse_pattern(const Call& call, const fs::path& in) {
  if (!call.has("out") && in.filename().string().find_first_of("*?[") != std::string::npos)
    throw UsageError("--out is needed where a pattern says what is read");
}

void say_oddities(Call& call, const std::vector<std::string>& oddities) {
  for (const std::string& text : oddities) call.progress.say(fmt::format("{}: {}", call.paths()[1], text));
}

double number_of(const Call& call, const char* name, double fallback, double least) {
  const double value = call.number(name).value_or(fallback);
  if (std::isfinite(value) && !(value >= least)) throw UsageError("--{} must be {} or more", name, least);
  return value;
}

void tell_written(Call& call, const fs::path& out, std::uint64_t kept, std::uint64_t all) {
  call.json["file"] = out.string();
  call.json["points"] = kept;
  call.json["of"] = all;
  call.lines.push_back(fmt::format("{}: {} of {} points", out.string(), kept, all));
}

Eigen::Vector2d parse_place(const std::string& text) {
  const std::vector<std::string> parts = split_list(text, ':');
  try {
    if (parts.size() == 2) return {std::stod(parts[0]), std::stod(parts[1])};
  } catch (const std::exception&) {  // said below
  }
  throw UsageError("'{}' is no place; write EAST:NORTH, as in 431210:6822400", text);
}

std::string crs_name(const cloud::LasHeader& header) {
  const std::string crs = header.crs();
  const std::size_t from = crs.find('"');
  return from == std::string::npos ? crs : crs.substr(from + 1, crs.find('"', from + 1) - from - 1);
}

namespace {

void run_describe(Call& call) {
  if (call.paths().size() != 2)
    throw UsageError("cloud describe needs one file, as in mesograph cloud describe results/cloud.las");
  cloud::LasReader file(call.paths()[1]);
  const cloud::LasHeader& h = file.header();
  const cloud::Description d = cloud::describe(file, call.progress);
  const std::string name = crs_name(h);
  const cloud::Units units = cloud::units_of(h);
  const double density = d.square_units == 0 ? 0 : static_cast<double>(h.points) / static_cast<double>(d.square_units);
  const auto vector = [](const Eigen::Vector3d& v) { return nlohmann::ordered_json{v.x(), v.y(), v.z()}; };
  call.json = {{"file", call.paths()[1]},
               {"las", fmt::format("1.{}", h.minor)},
               {"format", h.format},
               {"points", h.points},
               {"crs", name},
               {"software", h.software},
               {"scale", vector(h.scale)},
               {"offset", vector(h.offset)},
               {"unit", units.angles ? "degree" : units.plan},
               {"density", density},
               {"colour", h.has_colour() ? d.eight_bit ? "8 bit" : "16 bit" : "none"}};
  if (h.points > 0) call.json["low"] = vector(d.box.min()), call.json["high"] = vector(d.box.max());
  const auto line = [&](const char* what, const std::string& text) {
    call.lines.push_back(fmt::format("{:<12} {}", what, text));
  };
  line("file", fmt::format("LAS 1.{}, point format {}, {} bytes a point, by '{}'", h.minor, h.format, h.record_length,
                           h.software));
  line("CRS", name.empty() ? "not said" : name);
  line("points", fmt::format("{}, {:.1f} a square {} where there are any", h.points, density,
                             units.angles ? "degree" : units.plan));
  if (h.points > 0)
    for (int a = 0; a < 3; ++a)
      line(a == 0   ? "east"
           : a == 1 ? "north"
                    : "height",
           fmt::format("{:.3f} to {:.3f} {}, steps of {:g}", d.box.min()[a], d.box.max()[a],
                       units.angles && a < 2 ? "degrees" : units.plan, h.scale[a]));
  for (const auto& [number_of_class, n] : d.classes) {
    call.json["classes"][std::to_string(number_of_class)] = n;
    line("class", fmt::format("{:>3} {:<18} {}", number_of_class, draw::class_name(number_of_class), n));
  }
  for (std::size_t a = 0; a < h.attributes.size() && h.points > 0; ++a) {
    const auto& s = d.attributes[a];
    call.json["attributes"][h.attributes[a].name] = {{"low", s.low}, {"mean", s.mean}, {"high", s.high}};
    line("attribute", fmt::format("{:<12} {:.4g} to {:.4g}, mean {:.4g}  ({})", h.attributes[a].name, s.low, s.high,
                                  s.mean, h.attributes[a].description));
  }
  for (const cloud::LasRecord& r : h.records)
    line("record", fmt::format("{} {}, {} bytes: {}", r.user, r.id, r.data.size(), r.description));
  say_oddities(call, d.oddities);
}

void run_section(Call& call) {
  const CloudFiles files = cloud_files(call, ".png");
  const std::vector<std::string> ends = call.list("line");
  if (ends.size() != 2) throw UsageError("cloud section needs --line E:N,E:N");
  cloud::LasReader file(files.in);
  const cloud::Units units = cloud::units_of(file.header());
  const double width = length_of(call, units_of(call, file.header()), "width", 0.5, 1e-6) /
                       cloud::metres_of(file.header(), files.in.string()).x();
  const cloud::SectionLine line{parse_place(ends[0]), parse_place(ends[1]), width};
  if (line.from == line.to) throw UsageError("--line: its two ends are the same place");
  say_oddities(call, file.oddities());
  draw::SectionOptions options;
  options.shown = shown_of(call, file.header());
  if (options.shown > draw::Shown::sigma)
    throw UsageError("--by {}: a section shows colour, height, class or sigma", call.text("by"));
  options.exaggeration = number_of(call, "exaggerate", 1, 0.01);
  options.unit = units.plan;
  const auto points = cloud::points_along(file, line, call.progress);
  if (points.empty())
    throw Error("{}: no point lies within {:g} {} of the line; check its places, and --width", files.in.string(),
                0.5 * line.width, units.plan);
  options.title = fmt::format("{}: from {:.2f}, {:.2f} to {:.2f}, {:.2f}, {:g} {} wide", files.in.filename().string(),
                              line.from.x(), line.from.y(), line.to.x(), line.to.y(), line.width, units.plan);
  const fs::path table = fs::path(files.out).replace_extension(".csv");
  write_file(files.out, draw::section_figure(points, (line.to - line.from).norm(), options));
  write_file(table, cloud::section_table(points));
  call.json["file"] = files.out.string(), call.json["table"] = table.string(), call.json["points"] = points.size();
  call.lines.push_back(fmt::format("{} and {}: {} points", files.out.string(), table.string(), points.size()));
}

void run_cloud(Call& call) {
  static const std::vector<std::pair<std::string, void (*)(Call&)>> actions = {
      {"describe", run_describe}, {"cut", run_cut},
      {"thin", run_thin},         {"clean", run_clean},
      {"ground", run_ground},     {"classify", run_classify},
      {"stream", run_stream},     {"set", run_set},
      {"shift", run_shift},       {"move", run_move},
      {"join", run_join},         {"section", run_section},
      {"render", run_render},     {"compare-points", run_compare_points}};
  std::vector<std::string> names;
  for (const auto& [name, run] : actions) names.push_back(name);
  if (call.paths().empty()) throw UsageError("cloud needs one of {}, and a file", fmt::join(names, ", "));
  for (const auto& [old, now] : {std::pair("info", "describe"), std::pair("clip", "cut")})
    if (call.paths()[0] == old) throw UsageError("cloud {} is called cloud {} now", old, now);
  for (const auto& [name, run] : actions)
    if (name == call.paths()[0]) return run(call);
  const std::string near = nearest_word(call.paths()[0], names);
  throw UsageError("cloud {} is unknown{}; there are {}", call.paths()[0], near.empty() ? "" : ", did you mean " + near,
                   fmt::join(names, ", "));
}

}  // namespace

Command cloud_command() {
  return {
      "cloud",
      "looks at LAS clouds, whoever wrote them, and works on them",
      "ACTION FILE [FILE...], where ACTION is describe, cut, thin, clean, ground, classify, stream, set, shift, move, "
      "join, "
      "compare-points, section or render",
      {{"out", "file (default FILE_ACTION.las, .laz where FILE is one, or .png)", Takes::text},
       {"box", "cut, set, shift, move: west,south,east,north in the cloud's CRS", Takes::text},
       {"box-turn", "turns --box clockwise about its middle, degrees", Takes::text},
       {"within", "cut, set, shift, move, classify --set: file of polygons in any CRS", Takes::text},
       {"outside", "the points outside --box or --within"},
       {"class", "cut, set, shift, move: points of these classes alone", Takes::list},
       {"heights", "cut, set, shift, move: LOW,HIGH, m, as the cloud counts heights", Takes::text},
       {"above", "cut, set, shift, move: LOW,HIGH above the ground (class 2), m", Takes::text},
       {"set", "set, classify: class that the points become", Takes::text},
       {"reach", "compare-points: radius in which points make the plane, m (default 0.3)", Takes::number},
       {"check", "classify: places whose class is known, a table east,north[,height],class or a LAS file", Takes::text},
       {"middle-vegetation", "classify: height from which vegetation is of middle height, m (default 0.5)",
        Takes::number},
       {"high-vegetation", "classify: and from which it is high (default 2)", Takes::number},
       {"lowest-roof", "classify: least height of a roof above the ground, m (default 2)", Takes::number},
       {"least-roof", "classify: least area of a roof, m2 (default 6)", Takes::number},
       {"road-width", "classify: least width of a road, m (default 2.5)", Takes::number},
       {"least-water", "classify: least area of water, m2 (default 25)", Takes::number},
       {"only", "classify: ground, vegetation, building, road, water, noise; others keep their class", Takes::list},
       {"spacing", "thin, join: side of the cubes of which the best point stays, m", Takes::number},
       {"crs", "move, join: CRS into which clouds are brought, EPSG:n+m", Takes::text},
       {"turn", "move: degrees clockwise, about the vertical", Takes::number},
       {"scale", "move: factor of lengths and heights", Takes::number},
       {"about", "move: EAST,NORTH,HEIGHT that --turn and --scale leave where it is (default the middle)", Takes::text},
       {"units", "of lengths in options: m (default), or file, as the cloud's CRS counts", Takes::text},
       {"max-sigma", "clean: points less sure go, m (default 25 times the median)", Takes::number},
       {"min-rays", "clean: points that fewer photos agree on go", Takes::whole},
       {"spreads", "clean: how many spreads beyond the median a distance to neighbours may be (default 8)",
        Takes::number},
       {"least-group", "clean: groups of fewer points that nothing is near go (default 50)", Takes::whole},
       {"largest", "ground: width of the largest thing that stands on it, m (default 16)", Takes::number},
       {"steepest", "ground: rise over run of bumps that are still ground (default 0.15)", Takes::number},
       {"tolerance", "ground: distance from the surface, m (default 0.1)", Takes::number},
       {"line", "section: from E:N to E:N, with a comma between", Takes::list},
       {"width", "section: of the band of points, m (default 0.5)", Takes::number},
       {"exaggerate", "section: heights against lengths (default 1)", Takes::number},
       {"by",
        "section: colour, height, class or sigma; render: also rays, density, shade; shift: m upwards; move: "
        "EAST,NORTH,HEIGHT, m",
        Takes::text},
       {"from", "render: above, AZIMUTH or AZIMUTH:RISE in degrees (default above, rise 35); several make a sheet",
        Takes::list},
       {"flight", "render: so many numbered pictures from view to view, or once around, and a film", Takes::whole},
       {"pixels", "render: width of the picture (default 1280)", Takes::whole}},
      run_cloud};
}

}  // namespace mesograph::app
