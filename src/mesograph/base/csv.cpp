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

/// Fields of one line; nothing where a quote stays open.
std::optional<std::vector<std::string>> split_fields(std::string_view line) {
  std::vector<std::string> fields(1);
  bool quoted = false;
  bool was_quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char ch = line[i];
    if (quoted && ch == '"' && i + 1 < line.size() && line[i + 1] == '"') {
      fields.back() += line[++i];
    } else if (ch == '"') {
      quoted = !quoted;
      was_quoted = true;
    } else if (ch == ',' && !quoted) {
      if (!was_quoted) fields.back() = trimmed(fields.back());
      was_quoted = false;
      fields.emplace_back();
    } else {
      fields.back() += ch;
    }
  }
  if (!was_quoted) fields.back() = trimmed(fields.back());
  if (quoted) return std::nullopt;
  return fields;
}

}  // namespace

CsvTable::CsvTable(const std::filesystem::path& path, const std::vector<std::string>& required) : path_(path) {
  std::string content = read_file(path);
  if (content.starts_with("\xEF\xBB\xBF")) content.erase(0, 3);
  std::size_t line_number = 0;
  for (std::size_t begin = 0; begin < content.size();) {
    std::size_t end = std::min(content.find('\n', begin), content.size());
    std::string_view line(content.data() + begin, end - begin);
    begin = end + 1;
    ++line_number;
    if (line.ends_with('\r')) line.remove_suffix(1);
    if (line.find_first_not_of(" \t,") == std::string_view::npos || line.starts_with('#')) continue;
    auto fields = split_fields(line);
    if (!fields) throw Error("{}:{}: a quote is not closed; close it or remove it", path.string(), line_number);
    if (header_.empty()) {
      header_ = *fields;
      continue;
    }
    if (fields->size() != header_.size())
      throw Error("{}:{}: {} fields where the header has {}; check the delimiter (comma) and decimals ('.')",
                  path.string(), line_number, fields->size(), header_.size());
    fields_.push_back(std::move(*fields));
    lines_.push_back(line_number);
  }
  if (header_.empty()) throw Error("{}: is empty; it needs a header row", path.string());
  for (const std::string& column : required)
    if (!has(column))
      throw Error("{}: column '{}' is missing; the header must name {}", path.string(), column,
                  fmt::join(required, ","));
}

std::optional<std::size_t> CsvTable::column_index(std::string_view column) const {
  const auto found = std::find(header_.begin(), header_.end(), column);
  if (found == header_.end()) return std::nullopt;
  return static_cast<std::size_t>(found - header_.begin());
}

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
  const std::string& field = text(row, column);
  if (field.empty()) return std::nullopt;
  double value = 0.0;
  const char* first = field.data() + (field[0] == '+' ? 1 : 0);
  const auto [rest, status] = std::from_chars(first, field.data() + field.size(), value);
  if (status != std::errc() || rest != field.data() + field.size() || !std::isfinite(value))
    throw Error("{}: {} '{}' is not a number; write it as in 112.35", where(row), column, field);
  return value;
}

double CsvTable::required_number(std::size_t row, std::string_view column) const {
  required_text(row, column);
  return *number(row, column);
}

std::string CsvTable::where(std::size_t row) const { return fmt::format("{}:{}", path_.string(), lines_[row]); }

std::string csv_field(std::string_view text) {
  if (text.find_first_of(",\"\n\r") == std::string_view::npos) return std::string(text);
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

}  // namespace mesograph
