#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/control/control_file.hpp>
#include <optional>
#include <set>
#include <sstream>

namespace mesograph::control {

namespace {

/// Small letters without accents, of those that Latin-1 has: "Höhe" -> "hohe", "Øst" -> "ost".
std::string folded(const std::string& text) {
  static const std::string plain =  // U+00C0 to U+00FF
      "aaaaaaaceeeeiiiidnooooo*ouuuuyts"
      "aaaaaaaceeeeiiiidnooooo/ouuuuyty";
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto c = static_cast<unsigned char>(text[i]);
    if (c == 0xC3 && i + 1 < text.size())
      out += plain[static_cast<unsigned char>(text[++i]) & 0x3F];
    else
      out += static_cast<char>(std::tolower(c));
  }
  return out;
}

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

struct Line {
  std::size_t number;
  std::string text;
};

/// Whether a quote that begins a field is still open at the end: then the field goes on in the next line. Quotes within
/// fields are seconds of arc.
bool leaves_open(const std::string& line) {
  bool quoted = false, begins = true;
  for (const char c : line) {
    if (c == '"' && (quoted || begins))
      quoted = !quoted;
    else if (!quoted && c != ' ')
      begins = c == ',' || c == ';' || c == '\t' || c == '|';
  }
  return quoted;
}

std::vector<Line> lines_of(const std::filesystem::path& path, bool& latin1) {
  std::string all = read_file(path);
  if (all.starts_with("\xEF\xBB\xBF")) all.erase(0, 3);
  latin1 = !is_utf8(all);
  all = to_utf8(all);
  if (all.find('\n') == std::string::npos) std::replace(all.begin(), all.end(), '\r', '\n');
  std::vector<Line> out;
  std::istringstream stream(all);
  std::size_t number = 0;
  for (std::string text; std::getline(stream, text);) {
    ++number;
    const std::size_t begin = number;
    const std::size_t first = std::min(text.find_first_not_of(" \t\r"), text.size());
    const std::string_view t = std::string_view(text).substr(first);
    if (t.empty() || t.starts_with('#') || t.starts_with("//") || t.starts_with('%')) continue;
    for (std::string more; leaves_open(text) && std::getline(stream, more); ++number) text += '\n' + more;
    if (text.ends_with('\r')) text.pop_back();
    out.push_back({begin, trimmed(text)});
  }
  return out;
}

std::vector<std::string> split(const std::string& line, char delimiter) {
  std::vector<std::string> out(1);
  bool quoted = false, was_quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (c == '"' && (quoted || (!was_quoted && trimmed(out.back()).empty()))) {
      if (quoted && i + 1 < line.size() && line[i + 1] == '"') {
        out.back() += line[++i];
        continue;
      }
      if (!quoted) out.back().clear();
      quoted = !quoted;
      was_quoted = true;
    } else if (!quoted && (c == delimiter || (delimiter == ' ' && c == '\t'))) {
      if (!was_quoted) out.back() = trimmed(out.back());
      if (delimiter != ' ' || !out.back().empty()) out.emplace_back();
      was_quoted = false;
    } else if (quoted || !was_quoted || (c != ' ' && c != '\t')) {
      out.back() += c;
    }
  }
  if (!was_quoted) out.back() = trimmed(out.back());
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

/// Whether x, y, z are those of places on the Earth, from its middle: as far away as its surface, which a grid's
/// numbers may be by chance, and not all as near to the equator's plane as heights are to nought.
bool are_geocentric(const std::vector<std::string>& columns, const std::vector<Line>& lines, char delimiter,
                    bool decimal_comma, double metres) {
  constexpr double least = 6.33e6, most = 6.42e6, highest = 1.5e4;  // m
  bool any = false, far = false;
  for (const Line& line : lines) {
    const std::vector<std::string> fields = split(line.text, delimiter);
    double squares = 0;
    int known = 0;
    for (std::size_t i = 0; i < std::min(fields.size(), columns.size()); ++i)
      if (columns[i] == "x" || columns[i] == "y" || columns[i] == "z")
        if (const auto v = number(fields[i], decimal_comma)) {
          squares += metres * metres * *v * *v, ++known;
          far = far || (columns[i] == "z" && std::abs(metres * *v) > highest);
        }
    if (known < 3) continue;
    any = true;
    if (const double distance = std::sqrt(squares); distance < least || distance > most) return false;
  }
  return any && far;
}

Coordinates coordinates_of(const std::filesystem::path& path, std::vector<std::string>& columns, bool geocentric,
                           std::vector<std::string>& guesses) {
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
  if (geocentric && !has(columns, "east")) return Coordinates::geocentric;
  // "x,y,height": north is y, east is x, as grids have it; whoever means it otherwise is told by --dry-run.
  std::vector<std::string> words, meanings;
  for (const auto& [word, ours] : {std::pair("x", "east"), std::pair("y", "north"), std::pair("z", "height")})
    if (has(columns, word) && !has(columns, ours)) {
      *std::find(columns.begin(), columns.end(), word) = ours;
      words.emplace_back(word), meanings.emplace_back(ours);
    }
  if (!words.empty())
    guesses.push_back(fmt::format("columns {} are taken as {}; say otherwise with --columns", fmt::join(words, ", "),
                                  fmt::join(meanings, ", ")));
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
  out.role_word = row.text("role");
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
  for (const double sigma : {point.sigma_h, point.sigma_v, point.sigma_e, point.sigma_n})
    check_sigma(sigma, least_sigma_m, "m", point.where, "point '" + point.id + "'");
}

std::string column_meaning(const std::string& heading) {
  // By our word: English, German, French, Spanish, Norwegian, as folded() leaves them.
  static const std::map<std::string, std::vector<std::string>> meanings = {
      {"id", {"id",      "point",       "name",      "pt",        "nr",         "no",           "number",
              "label",   "point_id",    "pointid",   "pid",       "point name", "point number", "punkt",
              "punktnr", "punktnummer", "punktnavn", "punktname", "pnr",        "nummer",       "bezeichnung",
              "nom",     "numero",      "matricule", "punto",     "nombre",     "navn",         "pkt"}},
      {"east",
       {"east", "easting", "e", "west", "westing", "rechtswert", "rw", "rechts", "ost", "ostwert", "oest", "est",
        "este", "oeste", "ouest", "aust"}},
      {"north",
       {"north", "northing", "n", "south", "southing", "hochwert", "hw", "hoch", "nord", "nordwert", "norte", "sud",
        "sur"}},
      {"height",
       {"height", "h", "elev", "elevation", "alt", "altitude", "hohe", "hoehe", "hauteur", "cote", "altura", "cota",
        "elevacion", "altitud", "hoyde", "hoeyde", "kote", "hoh", "moh"}},
      {"lat", {"lat", "latitude", "breite", "latitud", "bredde", "breddegrad"}},
      {"lon", {"lon", "long", "longitude", "lange", "laenge", "longitud", "lengde", "lengdegrad"}},
      {"x", {"x"}},
      {"y", {"y"}},
      {"z", {"z"}},
      {"role", {"role", "rolle", "rol", "type", "typ", "tipo", "art", "usage", "use", "verwendung", "utilisation"}},
      {"sigma_h", {"sigma_h"}},
      {"sigma_v", {"sigma_v"}},
      {"sigma_e", {"sigma_e"}},
      {"sigma_n", {"sigma_n"}}};
  std::string word = folded(heading);
  const auto unit = word.find_first_of("[(");  // "east [m]"
  if (unit != std::string::npos) word = word.substr(0, unit);
  word = trimmed(word);
  if (word.ends_with('.')) word.pop_back();  // "Nr."
  for (const auto& [ours, words] : meanings)
    if (std::find(words.begin(), words.end(), word) != words.end()) return ours;
  return {};
}

namespace {

/// A role's word without what people put between its parts: "Check-Point" -> "checkpoint".
std::string role_word(const std::string& text) {
  std::string out;
  for (const char c : folded(text))
    if (std::isalnum(static_cast<unsigned char>(c))) out += c;
  return out;
}

PointRole role_of(const std::string& word) {
  static const std::map<PointRole, std::vector<std::string>> words = {
      {PointRole::control,
       {"control", "controlpoint", "gcp", "groundcontrol", "groundcontrolpoint", "pass", "passpoint", "passpunkt",
        "full", "appui", "pointdappui", "calage", "pointdecalage", "apoyo", "puntodeapoyo", "puntodecontrol"}},
      {PointRole::check,
       {"check", "checks", "checkpoint", "chk", "icp", "independentcheckpoint", "kontrollpunkt", "kontroll",
        "pruefpunkt", "prufpunkt", "controle", "pointdecontrole", "verification", "chequeo", "puntodechequeo",
        "verificacion", "validation"}},
      {PointRole::off, {"off", "none", "unused", "ignore", "inactive", "aus", "av"}}};
  for (const auto& [role, list] : words)
    if (std::find(list.begin(), list.end(), word) != list.end()) return role;
  return PointRole::unsaid;
}

}  // namespace

void set_roles(std::vector<FilePoint>& points, std::vector<std::string>& guesses) {
  bool cp = false, control = false;
  for (FilePoint& p : points) {
    const std::string word = role_word(p.role_word);
    if (word.empty()) continue;
    p.role = role_of(word);
    cp = cp || word == "cp";
    control = control || p.role == PointRole::control;
    if (p.role == PointRole::unsaid && word != "cp")
      throw Error("{}: role '{}' is unknown; write control, check or off", p.where, p.role_word);
  }
  if (!cp) return;
  for (FilePoint& p : points)
    if (role_word(p.role_word) == "cp") p.role = control ? PointRole::check : PointRole::control;
  guesses.push_back(control
                        ? "role CP is taken as check, for there are control points beside; say otherwise with --role"
                        : "role CP is taken as control; say otherwise with --check or --role");
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
  const bool geocentric = are_geocentric(out.columns, lines, out.delimiter, out.decimal_comma,
                                         options.plan ? metres_of(*options.plan) : 1.0);
  out.coordinates = coordinates_of(path, out.columns, geocentric, out.guesses);
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
  set_roles(out.points, out.guesses);
  return out;
}

}  // namespace mesograph::control
