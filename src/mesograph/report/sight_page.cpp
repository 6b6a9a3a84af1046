#include <fmt/format.h>

#include <cmath>
#include <kainjow/mustache.hpp>
#include <mesograph/report/base64.hpp>
#include <mesograph/report/sight_page.hpp>
#include <mesograph/report/sight_page_text.hpp>
#include <nlohmann/json.hpp>

namespace mesograph::report {

namespace {

using Json = nlohmann::ordered_json;

Json number(double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); }

Json json_of_row(const SightPage::Row& row) {
  Json out = {{"image", row.image},
              {"x", row.x},
              {"y", row.y},
              {"sigma", number(row.sigma)},
              {"state", row.state},
              {"origin", row.origin},
              {"residual", number(row.residual)}};
  if (row.ellipse) out["ellipse"] = *row.ellipse;
  if (row.chip && !row.chip->jpeg.empty())
    out["chip"] = {{"left", row.chip->left},
                   {"top", row.chip->top},
                   {"width", row.chip->width},
                   {"src", "data:image/jpeg;base64," + base64(row.chip->jpeg)}};
  return out;
}

/// A file name as the path of a URL (RFC 3986, 3.3).
std::string url_path(const std::string& path) {
  static const std::string plain = "-._~/!$&'()*+,;=:@";
  std::string out;
  for (const char c : path) {
    const auto byte = static_cast<unsigned char>(c);
    if ((std::isalnum(byte) && byte < 128) || plain.find(c) != std::string::npos)
      out += c;
    else
      out += fmt::format("%{:02X}", byte);
  }
  return out;
}

}  // namespace

std::string sight_page(const SightPage& page) {
  Json data = {{"key", page.key}, {"points", Json::array()}, {"photos", Json::object()}};
  for (const SightPage::Point& point : page.points) {
    Json rows = Json::array();
    for (const SightPage::Row& row : point.rows) rows.push_back(json_of_row(row));
    data["points"].push_back({{"id", point.id}, {"role", point.role}, {"rows", rows}});
  }
  for (const SightPage::Photo& photo : page.photos) data["photos"][photo.image] = url_path(photo.path);
  // A name may hold "</script>": within JSON every '<' may be written as an escape.
  std::string text = data.dump(-1, ' ', false, Json::error_handler_t::replace), safe;
  safe.reserve(text.size());
  for (const char c : text)
    if (c == '<')
      safe += "\\u003c";
    else
      safe += c;
  kainjow::mustache::data values;
  values.set("title", page.title);
  values.set("data", safe);
  kainjow::mustache::mustache shell(sight_page_text);
  return shell.render(values);
}

}  // namespace mesograph::report
