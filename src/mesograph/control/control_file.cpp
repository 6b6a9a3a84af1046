#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/control/control_file.hpp>
#include <mesograph/control/vector_points.hpp>
#include <optional>
#include <set>
#include <sstream>

namespace mesograph::control {

namespace {

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
  return text;
}

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

/// True where every byte beyond ASCII is part of a well-formed sequence.
bool is_utf8(const std::string& text) {
  for (std::size_t i = 0; i < text.size();) {
    const auto c = static_cast<unsigned char>(text[i]);
    const int more = c < 0x80 ? 0 : c >= 0xF0 && c < 0xF5 ? 3 : c >= 0xE0 ? 2 : c >= 0xC2 && c < 0xE0 ? 1 : -1;
    if (more < 0 || c >= 0xF5) return false;
    for (int k = 1; k <= more; ++k)
      if (i + k >= text.size() || (static_cast<unsigned char>(text[i + k]) & 0xC0) != 0x80) return false;
    i += 1 + static_cast<std::size_t>(more);
  }
  return true;
}

std::string from_latin1(const std::string& text) {
  std::string out;
  for (const char ch : text) {
    const auto c = static_cast<unsigned char>(ch);
    if (c < 0x80) {
      out += ch;
    } else {
      out += static_cast<char>(0xC0 | (c >> 6));
      out += static_cast<char>(0x80 | (c & 0x3F));
    }
  }
  return out;
}

struct Line {
  std::size_t number;
  std::string text;
};

std::vector<Line> lines_of(const std::filesystem::path& path, bool& latin1) {
  std::string all = read_file(path);
  if (all.starts_with("\xEF\xBB\xBF")) all.erase(0, 3);
  latin1 = !is_utf8(all);
  if (latin1) all = from_latin1(all);
  if (all.find('\n') == std::string::npos) std::replace(all.begin(), all.end(), '\r', '\n');
  std::vector<Line> out;
  std::istringstream stream(all);
  std::size_t number = 0;
  for (std::string text; std::getline(stream, text);) {
    ++number;
    if (text.ends_with('\r')) text.pop_back();
    const std::string t = trimmed(text);
    if (t.empty() || t.starts_with('#') || t.starts_with("//") || t.starts_with('%')) continue;
    out.push_back({number, t});
  }
  return out;
}

std::vector<std::string> split(const std::string& line, char delimiter) {
  std::vector<std::string> out(1);
  bool quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (c == '"' && (quoted || trimmed(out.back()).empty())) {
      if (quoted && i + 1 < line.size() && line[i + 1] == '"')
        out.back() += line[++i];
      else
        quoted = !quoted;
    } else if (!quoted && (c == delimiter || (delimiter == ' ' && c == '\t'))) {
      if (delimiter != ' ' || !out.back().empty()) out.emplace_back();
    } else {
      out.back() += c;
    }
  }
  for (std::string& field : out) field = trimmed(field);
  if (delimiter == ' ' && out.back().empty()) out.pop_back();
  return out;
}

/// The delimiter that cuts all lines into the same number of fields, three or more; of several the one that is least
/// likely to be part of a number or a name.
char delimiter_of(const std::vector<Line>& lines, const std::filesystem::path& path) {
  for (const char delimiter : {';', '\t', '|', ',', ' '}) {
    std::size_t fields = 0, agree = 0;
    for (const Line& line : lines) {
      const std::size_t n = split(line.text, delimiter).size();
      if (fields == 0) fields = n;
      agree += n == fields;
    }
    if (fields >= 3 && agree == lines.size()) return delimiter;
    // A line or two of another length is a fault of that line, not of the delimiter.
    if (fields >= 3 && delimiter != ' ' && 10 * agree >= 8 * lines.size()) return delimiter;
  }
  if (lines.size() == 1 || split(lines[0].text, ',').size() > 1) return ',';
  throw Error(
      "{}: no delimiter (comma, semicolon, tab, bar or blanks) cuts its lines into three or more equal fields; "
      "save it as a table with one row a point",
      path.string());
}

std::optional<double> number(std::string text, bool decimal_comma) {
  if (decimal_comma) std::replace(text.begin(), text.end(), ',', '.');
  double value = 0;
  const char* first = text.data() + (!text.empty() && text[0] == '+' ? 1 : 0);
  const auto [rest, status] = std::from_chars(first, text.data() + text.size(), value);
  if (status != std::errc() || rest != text.data() + text.size() || !std::isfinite(value)) return std::nullopt;
  return value;
}

/// Decimal comma: fields like 6822357,834 and none with a point.
bool has_decimal_comma(const std::vector<Line>& lines, char delimiter) {
  if (delimiter == ',') return false;
  bool comma = false;
  for (const Line& line : lines)
    for (const std::string& field : split(line.text, delimiter)) {
      if (number(field, false) && field.find('.') != std::string::npos) return false;
      comma = comma || (field.find(',') != std::string::npos && number(field, true));
    }
  return comma;
}

bool has(const std::vector<std::string>& columns, const char* name) {
  return std::find(columns.begin(), columns.end(), name) != columns.end();
}

/// Headings, where the first line holds them: no number in it, and at least an id and a coordinate among its words.
std::vector<std::string> header_of(const std::vector<std::string>& fields, bool decimal_comma) {
  std::vector<std::string> out;
  int known = 0;
  for (const std::string& field : fields) {
    if (number(field, decimal_comma)) return {};
    out.push_back(column_meaning(field));
    known += !out.back().empty();
  }
  return known >= 2 ? out : std::vector<std::string>();
}

/// What each field may be: the first the id, the first three numbers after it north, east and height.
std::vector<std::string> likely_columns(const std::vector<std::string>& fields, bool decimal_comma) {
  const char* words[] = {"north", "east", "height"};
  std::vector<std::string> out = {"id"};
  std::size_t numbers = 0;
  for (std::size_t i = 1; i < fields.size(); ++i)
    out.push_back(numbers < 3 && number(fields[i], decimal_comma) ? words[numbers++] : "-");
  return out;
}

/// Columns as the options or the header name them; header rows are taken off `lines`.
std::vector<std::string> columns_of(const std::filesystem::path& path, std::vector<Line>& lines, char delimiter,
                                    bool decimal_comma, const ControlFileOptions& options) {
  const std::vector<std::string> first = split(lines.front().text, delimiter);
  std::vector<std::string> header = header_of(first, decimal_comma);
  const Line first_line = lines.front();
  if (!header.empty()) lines.erase(lines.begin());
  if (!options.columns.empty()) {
    if (options.columns.size() > first.size())
      throw Error("{}:{}: has {} fields where --columns names {}; name them in order, '-' for one to skip",
                  path.string(), first_line.number, first.size(), options.columns.size());
    std::vector<std::string> out = options.columns;
    out.resize(first.size(), "-");
    return out;
  }
  if (header.empty())
    throw UnnamedColumns(fmt::format("{}:{}", path.string(), first_line.number), likely_columns(first, decimal_comma));
  return header;
}

Coordinates coordinates_of(const std::filesystem::path& path, std::vector<std::string>& columns, bool& guessed) {
  const auto need = [&](std::initializer_list<const char*> names) {
    for (const char* name : names)
      if (!has(columns, name))
        throw Error(
            "{}: column '{}' is missing; the header must name id,east,north,height (or lat,lon,height), or "
            "--columns must",
            path.string(), name);
  };
  need({"id"});
  if (has(columns, "lat") || has(columns, "lon")) {
    need({"lat", "lon", "height"});
    return Coordinates::geographic;
  }
  if (has(columns, "x") && has(columns, "y") && has(columns, "z") && !has(columns, "east"))
    return Coordinates::geocentric;
  // "x,y,height": north is y, east is x, as grids have it; whoever means it otherwise is told by --dry-run.
  for (const auto& [word, ours] : {std::pair("x", "east"), std::pair("y", "north"), std::pair("z", "height")})
    if (has(columns, word) && !has(columns, ours)) {
      *std::find(columns.begin(), columns.end(), word) = ours;
      guessed = true;
    }
  need({"east", "north", "height"});
  return Coordinates::grid;
}

/// One row's fields by our words.
class Row {
 public:
  Row(const std::vector<std::string>& columns, std::vector<std::string> fields, std::string where, bool decimal_comma)
      : columns_(columns), fields_(std::move(fields)), where_(std::move(where)), decimal_comma_(decimal_comma) {}
  std::string text(const char* column) const {
    const auto found = std::find(columns_.begin(), columns_.end(), column);
    return found == columns_.end() ? std::string() : fields_[static_cast<std::size_t>(found - columns_.begin())];
  }
  double value(const char* column) const {
    const std::string field = text(column);
    if (field.empty()) return nan;
    const auto v = number(field, decimal_comma_);
    if (!v) throw Error("{}: {} '{}' is not a number; write it as in 112.35", where_, column, field);
    return *v;
  }
  double angle(const char* column) const {
    const std::string field = text(column);
    if (field.empty()) return nan;
    if (const auto v = number(field, decimal_comma_)) return *v;
    const double v = degrees_from(field);
    if (std::isnan(v)) throw Error("{}: {} '{}' is no angle; write 61.504201, or 61 30 15.12 N", where_, column, field);
    return v;
  }
  const std::string& where() const { return where_; }

 private:
  const std::vector<std::string>& columns_;
  std::vector<std::string> fields_;
  std::string where_;
  bool decimal_comma_;
};

FilePoint point_of(const Row& row, Coordinates coordinates, const ControlFileOptions& options) {
  FilePoint out;
  out.where = row.where();
  out.id = row.text("id");
  if (out.id.empty()) throw Error("{}: id is empty; write a value or remove the row", out.where);
  out.role = lower(row.text("role"));
  const double plan = options.plan ? metres_of(*options.plan) : 1.0;
  const double height = options.height ? metres_of(*options.height) : 1.0;
  if (coordinates == Coordinates::geographic) {
    out.east = row.angle("lon"), out.north = row.angle("lat"), out.height = height * row.value("height");
  } else if (coordinates == Coordinates::geocentric) {
    out.east = plan * row.value("x"), out.north = plan * row.value("y"), out.height = plan * row.value("z");
  } else {
    out.east = plan * row.value("east"), out.north = plan * row.value("north"),
    out.height = height * row.value("height");
  }
  out.sigma_h = row.value("sigma_h"), out.sigma_v = row.value("sigma_v");
  if (std::isnan(out.east) != std::isnan(out.north))
    throw Error("{}: point '{}' has only one of east and north; give both or none", out.where, out.id);
  if (std::isnan(out.east) && std::isnan(out.height))
    throw Error("{}: point '{}' has no coordinates; give east and north, height, or all", out.where, out.id);
  out.sigma_e = row.value("sigma_e"), out.sigma_n = row.value("sigma_n");
  check_sigmas(out);
  return out;
}

}  // namespace

void check_sigmas(const FilePoint& point) {
  if (std::isnan(point.sigma_e) != std::isnan(point.sigma_n))
    throw Error("{}: point '{}' has only one of sigma_e and sigma_n; give both or none", point.where, point.id);
  if (point.sigma_h <= 0 || point.sigma_v <= 0 || point.sigma_e <= 0 || point.sigma_n <= 0)
    throw Error("{}: a sigma of point '{}' is not greater than 0; correct it or leave it empty", point.where, point.id);
}

std::string column_meaning(const std::string& heading) {
  static const std::map<std::string, std::string> words = {{"id", "id"},
                                                           {"point", "id"},
                                                           {"name", "id"},
                                                           {"pt", "id"},
                                                           {"nr", "id"},
                                                           {"no", "id"},
                                                           {"number", "id"},
                                                           {"label", "id"},
                                                           {"point_id", "id"},
                                                           {"pointid", "id"},
                                                           {"east", "east"},
                                                           {"easting", "east"},
                                                           {"e", "east"},
                                                           {"west", "east"},
                                                           {"westing", "east"},
                                                           {"north", "north"},
                                                           {"northing", "north"},
                                                           {"n", "north"},
                                                           {"south", "north"},
                                                           {"southing", "north"},
                                                           {"height", "height"},
                                                           {"h", "height"},
                                                           {"elev", "height"},
                                                           {"elevation", "height"},
                                                           {"alt", "height"},
                                                           {"altitude", "height"},
                                                           {"lat", "lat"},
                                                           {"latitude", "lat"},
                                                           {"lon", "lon"},
                                                           {"long", "lon"},
                                                           {"longitude", "lon"},
                                                           {"x", "x"},
                                                           {"y", "y"},
                                                           {"z", "z"},
                                                           {"role", "role"},
                                                           {"sigma_h", "sigma_h"},
                                                           {"sigma_v", "sigma_v"},
                                                           {"sigma_e", "sigma_e"},
                                                           {"sigma_n", "sigma_n"}};
  std::string word = lower(heading);
  const auto unit = word.find_first_of("[(");  // "east [m]"
  if (unit != std::string::npos) word = trimmed(word.substr(0, unit));
  const auto found = words.find(word);
  return found == words.end() ? std::string() : found->second;
}

UnnamedColumns::UnnamedColumns(const std::string& where, std::vector<std::string> like)
    : Error(
          "{}: has no header that names its columns, and the numbers alone do not tell north from east; name them, as "
          "in "
          "--columns {} (or east before north), and the unit with --units m, mm, ft or us-ft",
          where, fmt::join(like, ",")),
      columns(std::move(like)) {}

double metres_of(LengthUnit unit) {
  switch (unit) {
    case LengthUnit::millimetre:
      return 0.001;
    case LengthUnit::foot:
      return 0.3048;
    case LengthUnit::us_foot:
      return 1200.0 / 3937.0;
    default:
      return 1.0;
  }
}

std::string to_string(LengthUnit unit) {
  switch (unit) {
    case LengthUnit::millimetre:
      return "mm";
    case LengthUnit::foot:
      return "ft";
    case LengthUnit::us_foot:
      return "us-ft";
    default:
      return "m";
  }
}

double degrees_from(const std::string& text) {
  std::string cleaned;
  double sign = 1;
  for (const char c : text) {
    if (c == 'S' || c == 's' || c == 'W' || c == 'w' || c == '-')
      sign = -1;
    else if (std::isdigit(static_cast<unsigned char>(c)) || c == '.')
      cleaned += c;
    else if (c == ',')
      cleaned += '.';
    else if (std::isalpha(static_cast<unsigned char>(c)) && std::string("NnEeDdMm").find(c) == std::string::npos)
      return nan;
    else
      cleaned += ' ';
  }
  std::istringstream stream(cleaned);
  double degrees = 0, scale = 1;
  int parts = 0;
  for (std::string part; stream >> part; ++parts, scale /= 60) {
    const auto v = number(part, false);
    if (!v || parts > 2 || (parts > 0 && *v >= 60)) return nan;
    degrees += *v * scale;
  }
  return parts > 0 ? sign * degrees : nan;
}

ControlFile read_control_file(const std::filesystem::path& path, const ControlFileOptions& options) {
  ControlFile out;
  std::vector<Line> lines = lines_of(path, out.latin1);
  if (lines.empty()) throw Error("{}: holds no point; it needs one row a point", path.string());
  out.delimiter = delimiter_of(lines, path);
  out.decimal_comma = has_decimal_comma(lines, out.delimiter);
  out.columns = columns_of(path, lines, out.delimiter, out.decimal_comma, options);
  out.coordinates = coordinates_of(path, out.columns, out.guessed_x_y);
  std::set<std::string> ids;
  for (const Line& line : lines) {
    const std::string where = fmt::format("{}:{}", path.string(), line.number);
    std::vector<std::string> fields = split(line.text, out.delimiter);
    if (fields.size() != out.columns.size())
      throw Error("{}: {} fields where the other rows have {}; check the delimiter and the decimals", where,
                  fields.size(), out.columns.size());
    out.points.push_back(
        point_of(Row(out.columns, std::move(fields), where, out.decimal_comma), out.coordinates, options));
    if (!ids.insert(out.points.back().id).second)
      throw Error("{}: point '{}' comes twice; remove or rename one", where, out.points.back().id);
  }
  if (out.points.empty()) throw Error("{}: holds no point; it needs one row a point", path.string());
  return out;
}

}  // namespace mesograph::control
