#include <mesograph/base/errors.hpp>
#include <mesograph/geo/find_crs.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::optional<Eigen::Vector2d> place_from(const std::vector<std::string>& parts) {
  if (parts.empty()) return std::nullopt;
  Eigen::Vector2d out;
  for (int i = 0; i < 2; ++i) {
    char* end = nullptr;
    if (parts.size() == 2) out[i] = std::strtod(parts[static_cast<std::size_t>(i)].c_str(), &end);
    if (!end || *end != 0 || !(std::abs(out[i]) <= (i == 0 ? 90 : 180)))
      throw UsageError("--near {}: write latitude,longitude in degrees, as in 61.53,13.72", fmt::join(parts, ","));
  }
  return out;
}

void run_crs(Call& call) {
  geo::FindCrsOptions options;
  options.near = place_from(call.list("near"));
  if (const auto most = call.whole("most")) options.most = static_cast<std::size_t>(std::max(1, *most));
  if (call.paths().empty() && !options.near)
    throw UsageError("crs needs words to look for, as in mesograph crs UTM 33N, or --near LAT,LON");
  const geo::CrsSearch search = geo::find_crs(call.paths(), options);
  const std::vector<geo::FoundCrs>& found = search.found;
  call.json["all"] = search.all;
  call.json["found"] = nlohmann::ordered_json::array();
  for (const geo::FoundCrs& c : found) {
    call.json["found"].push_back({{"code", fmt::format("EPSG:{}", c.code)},
                                  {"name", c.name},
                                  {"kind", c.kind},
                                  {"unit", c.unit},
                                  {"area", c.area},
                                  {"geoid_grid", c.geoid_grid},
                                  {"geoid_present", c.geoid_present}});
    call.lines.push_back(fmt::format("EPSG:{:<6} {:<10} {:<42} {}{}", c.code, c.kind, c.name, c.unit,
                                     c.geoid_grid.empty() ? std::string()
                                     : c.geoid_present    ? "; geoid " + c.geoid_grid + " is here"
                                                          : "; geoid " + c.geoid_grid + " is NOT installed"));
    call.lines.push_back("            " +
                         (c.area.size() <= 110 ? c.area : c.area.substr(0, c.area.rfind(' ', 110)) + " ..."));
  }
  if (found.empty())
    throw Error("crs: no system of the register has all of these words{}; try fewer", options.near ? " there" : "");
  if (search.all > found.size())
    call.lines.push_back(
        fmt::format("{} of {}; --most N shows more, another word or --near fewer", found.size(), search.all));
  call.lines.push_back("a survey takes a projected one with a vertical one: mesograph new DIR --crs EPSG:n+m");
}

}  // namespace

Command crs_command() {
  return {"crs",
          "finds a coordinate reference system by name, code or place",
          "[WORDS...]",
          {{"near", "only systems in use there: LAT,LON in degrees", Takes::list},
           {"most", "how many to list (default 25)", Takes::whole}},
          run_crs};
}

}  // namespace mesograph::app
