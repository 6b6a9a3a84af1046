#include <algorithm>
#include <charconv>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>

namespace mesograph {

namespace {

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

bool is_blank(char ch) { return ch == ' ' || ch == '\t'; }

/// Splits one row, whose quotes are closed, into fields, in place of what stands there.
void split_fields(std::string_view line, std::vector<std::string>& fields) {
  std::size_t n = 0;
  const auto begin_field = [&] {
    if (n == fields.size()) fields.emplace_back();
    fields[n++].clear();
  };
  begin_field();
  bool quoted = false;
  bool was_quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char ch = line[i];
    std::string& field = fields[n - 1];
    if (quoted && ch == '"' && i + 1 < line.size() && line[i + 1] == '"') {
      field += line[++i];
    } else if (ch == '"') {
      if (!quoted && trimmed(field).empty()) field.clear();  // blanks before a quote are not of the field
      quoted = !quoted;
      was_quoted = true;
    } else if (was_quoted && !quoted && is_blank(ch)) {
      continue;  // nor are those behind it
    } else if (ch == ',' && !quoted) {
      if (!was_quoted) field = trimmed(field);
      was_quoted = false;
      begin_field();
    } else {
      field += ch;
    }
  }
  if (!was_quoted) fields[n - 1] = trimmed(fields[n - 1]);
  fields.resize(n);
}

/// An odd number of quotes: the last one is open, for a doubled quote is two of them.
bool leaves_open(std::string_view line) { return std::count(line.begin(), line.end(), '"') % 2 == 1; }

/// Grids that count west or south name their columns so.
std::string_view other_name(std::string_view column) {
  return column == "east" ? "west" : column == "north" ? "south" : std::string_view();
}

std::optional<std::size_t> index_of(const std::vector<std::string>& header, std::string_view column) {
  auto found = std::find(header.begin(), header.end(), column);
  if (found == header.end() && !other_name(column).empty())
    found = std::find(header.begin(), header.end(), other_name(column));
  if (found == header.end()) return std::nullopt;
  return static_cast<std::size_t>(found - header.begin());
}

/// Nothing where the field is empty.
template <typename Where>
std::optional<double> number_in(std::string_view field, std::string_view column, const Where& where) {
  if (field.empty()) return std::nullopt;
  double value = 0.0;
  const char* first = field.data() + (field[0] == '+' ? 1 : 0);
  const auto [rest, status] = std::from_chars(first, field.data() + field.size(), value);
  if (status != std::errc() || rest != field.data() + field.size() || !std::isfinite(value))
    throw Error("{}: {} '{}' is not a number; write it as in 112.35", where(), column, field);
  return value;
}

}  // namespace

CsvReader::CsvReader(const std::filesystem::path& path, const std::vector<std::string>& required)
    : path_(path), file_(path, std::ios::binary) {
  if (!file_ || std::filesystem::is_directory(path)) read_file(path);  // says why it cannot be read
  while (header_.empty() && next()) header_ = fields_;
  if (header_.empty()) throw Error("{}: is empty; it needs a header row", path.string());
  for (const std::string& name : required)
    if (!column(name))
      throw Error("{}: column '{}' is missing; the header must name {}", path.string(), name, fmt::join(required, ","));
}

bool CsvReader::next() {
  while (std::getline(file_, text_)) {
    begin_ = ++line_;
    if (line_ == 1 && text_.starts_with("\xEF\xBB\xBF")) text_.erase(0, 3);
    if (text_.find_first_not_of(" \t,\r") == std::string::npos || text_.starts_with('#')) continue;
    bool open = leaves_open(text_);
    for (std::string more; open && std::getline(file_, more); ++line_) {  // a quoted field with line breaks
      open = open != leaves_open(more);
      text_ += '\n' + more;
    }
    if (open) throw Error("{}: a quote is not closed; close it or remove it", where());
    std::string_view line = text_;
    if (line.ends_with('\r')) line.remove_suffix(1);
    split_fields(line, fields_);
    if (!header_.empty() && fields_.size() != header_.size())
      throw Error("{}: {} fields where the header has {}; check the delimiter (comma) and decimals ('.')", where(),
                  fields_.size(), header_.size());
    return true;
  }
  return false;
}

std::optional<std::size_t> CsvReader::column(std::string_view name) const { return index_of(header_, name); }

std::string_view CsvReader::required_text(std::size_t column) const {
  if (fields_[column].empty())
    throw Error("{}: {} is empty; write a value or remove the row", where(), header_[column]);
  return fields_[column];
}

std::optional<double> CsvReader::number(std::size_t column) const {
  return number_in(fields_[column], header_[column], [this] { return where(); });
}

double CsvReader::required_number(std::size_t column) const {
  required_text(column);
  return *number(column);
}

std::string CsvReader::where() const { return fmt::format("{}:{}", path_.string(), begin_); }

CsvTable::CsvTable(const std::filesystem::path& path, const std::vector<std::string>& required) : path_(path) {
  CsvReader reader(path, required);
  header_ = reader.header();
  while (reader.next()) {
    fields_.push_back(reader.fields());
    lines_.push_back(reader.line());
  }
}

std::optional<std::size_t> CsvTable::column_index(std::string_view column) const { return index_of(header_, column); }

bool CsvTable::has(std::string_view column) const { return column_index(column).has_value(); }

const std::string& CsvTable::text(std::size_t row, std::string_view column) const {
  static const std::string empty;
  const auto index = column_index(column);
  return index ? fields_[row][*index] : empty;
}

const std::string& CsvTable::required_text(std::size_t row, std::string_view column) const {
  const std::string& field = text(row, column);
  if (field.empty()) throw Error("{}: {} is empty; write a value or remove the row", where(row), column);
  return field;
}

std::optional<double> CsvTable::number(std::size_t row, std::string_view column) const {
  return number_in(text(row, column), column, [&] { return where(row); });
}

double CsvTable::required_number(std::size_t row, std::string_view column) const {
  required_text(row, column);
  return *number(row, column);
}

std::string CsvTable::where(std::size_t row) const { return fmt::format("{}:{}", path_.string(), lines_[row]); }

std::string csv_field(std::string_view text) {
  if (text.empty()) return {};
  constexpr std::string_view comments = "#%/";  // what begins one, here and in the files of survey crews
  const bool plain = text.find_first_of(",\"\n\r") == std::string_view::npos &&
                     comments.find(text.front()) == std::string_view::npos && !is_blank(text.front()) &&
                     !is_blank(text.back());
  if (plain) return std::string(text);
  std::string quoted = "\"";
  for (const char ch : text) {
    if (ch == '"') quoted += '"';
    quoted += ch;
  }
  return quoted + '"';
}

namespace {

std::string fixed(double value, int decimals) {
  if (!std::isfinite(value)) return {};
  std::string text = fmt::format("{:.{}f}", value, decimals);
  // No negative zero: "-0.0000" and "0.0000" are the same number and must be the same bytes.
  if (text[0] == '-' && text.find_first_not_of("-0.") == std::string::npos) text.erase(0, 1);
  return text;
}

}  // namespace

std::string csv_length(double metres) { return fixed(metres, 5); }
std::string csv_degrees(double degrees) { return fixed(degrees, 8); }
std::string csv_pixels(double pixels) { return fixed(pixels, 4); }

std::string csv_sigma(double sigma, int decimals) {
  if (!(sigma > 0) || !std::isfinite(sigma)) return fixed(sigma, decimals);
  constexpr int digits = 3;  // of a sigma: a tenth of a percent is more than anybody knows of one
  const int enough = digits - 1 - static_cast<int>(std::floor(std::log10(sigma)));
  std::string text = fixed(sigma, std::max(decimals, enough));
  // As many decimals as always where more would be noughts.
  const std::size_t least = text.find('.') + 1 + static_cast<std::size_t>(decimals);
  while (text.size() > least && text.back() == '0') text.pop_back();
  return text;
}

}  // namespace mesograph
