#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/classify.hpp>
#include <mesograph/cloud/heights_at.hpp>
#include <mesograph/cloud/units.hpp>

#include "cloud_actions.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

LasUnits units_of(const Call& call, const cloud::LasHeader& header) {
  const std::string words = call.has("units") ? call.text("units") : "m";
  if (words != "m" && words != "file") throw UsageError("--units {}: write m or file", words);
  const cloud::Units units = cloud::units_of(header);
  return {units.metres, words == "file" && !units.angles ? units.metres : Eigen::Vector3d::Ones()};
}

double length_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least) {
  const double unit = units.option.x();
  return call.number(name) ? unit * number_of(call, name, nan, least) : fallback;
}

double area_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least) {
  const double unit = units.option.x();
  return call.number(name) ? unit * unit * number_of(call, name, nan, least) : fallback;
}

double height_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least) {
  return call.number(name) ? units.option.z() * number_of(call, name, nan, least) : fallback;
}

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

namespace {

/// A low and a high end, m. Throws UsageError.
std::pair<double, double> range_of(const Call& call, const char* option, const LasUnits& units) {
  std::vector<double> ends = numbers_of(call, option, {"LOW", "HIGH"});
  for (double& end : ends) end *= units.option.z();
  if (!(ends[0] < ends[1])) throw UsageError("--{} {}: the lower end comes first", option, call.text(option));
  return {ends[0], ends[1]};
}

}  // namespace

std::uint8_t class_number(const std::string& text, const char* option) {
  char* end = nullptr;
  const long value = std::strtol(text.c_str(), &end, 10);
  if (text.empty() || *end != '\0' || value < 0 || value > 255)
    throw UsageError("--{} {}: give a class as LAS counts them, 0 to 255", option, text);
  return static_cast<std::uint8_t>(value);
}

cloud::Selection selection_of(const Call& call, const cloud::LasReader& file) {
  if (call.has("box") && call.has("within")) throw UsageError("give --box or --within, not both");
  cloud::Selection out;
  if (call.has("box")) out.region = cloud::Region::parse_box(call.text("box"));
  if (call.has("box-turn")) {
    if (!call.has("box")) throw UsageError("--box-turn goes with --box, which it turns");
    out.region = out.region.turned(numbers_of(call, "box-turn", {"DEGREES"})[0]);
  }
  if (call.has("within")) out.region = cloud::Region::read(call.text("within"), file.header().crs());
  out.outside = call.has("outside");
  if (out.outside && out.region.everything()) throw UsageError("--outside goes with --box or --within");
  for (const std::string& word : call.list("class")) out.classes.insert(class_number(word, "class"));
  if (call.has("heights")) {
    const LasUnits units = units_of(call, file.header());
    const auto [low, high] = range_of(call, "heights", units);
    out.low = low / units.metres.z(), out.high = high / units.metres.z();
  }
  return out;
}

Words words_above(Call& call, cloud::LasReader& file, const fs::path& out) {
  if (!call.has("above")) return {};
  const auto [low, high] = range_of(call, "above", units_of(call, file.header()));
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

}  // namespace mesograph::app
