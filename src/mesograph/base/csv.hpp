#pragma once

#include <filesystem>
#include <fstream>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace mesograph {

/// Goes through a table row by row and keeps none: for files of millions of rows. The rules are those of CsvTable.
/// Cost: one reading of the file, memory for one row.
class CsvReader {
 public:
  /// Opens a file and reads its header. Throws Error where one of `required` is missing from it.
  CsvReader(const std::filesystem::path& path, const std::vector<std::string>& required);

  /// Goes to the next row; false at the end. Throws Error as CsvTable does.
  bool next();
  const std::vector<std::string>& header() const { return header_; }
  std::optional<std::size_t> column(std::string_view name) const;
  /// Fields of the present row, by the number of their column.
  std::string_view text(std::size_t column) const { return fields_[column]; }
  const std::vector<std::string>& fields() const { return fields_; }
  std::string_view required_text(std::size_t column) const;
  double required_number(std::size_t column) const;
  std::optional<double> number(std::size_t column) const;
  std::string where() const;
  std::size_t line() const { return begin_; }  ///< where the row begins

 private:
  std::filesystem::path path_;
  std::ifstream file_;
  std::vector<std::string> header_, fields_;
  std::string text_;
  std::size_t line_ = 0, begin_ = 0;
};

/// A table as in the files that people exchange: UTF-8, comma, header row, '.' decimal, empty = unknown. Fields may be
/// quoted as in RFC 4180, and then hold anything, line breaks too; blank lines and rows that begin with '#' unquoted
/// are skipped. Law: what csv_field wrote is read back as it was. The columns west and south of a grid that counts so
/// are read as east and north: the place of a column says along which axis, its sign is the grid's.
class CsvTable {
 public:
  /// Reads a file. Throws Error with file and line where a row has another number of fields than the header, a quote
  /// stays open, or one of `required` is missing from the header.
  CsvTable(const std::filesystem::path& path, const std::vector<std::string>& required);

  std::size_t rows() const { return lines_.size(); }
  bool has(std::string_view column) const;
  /// Text of a field; empty where the table has no such column.
  const std::string& text(std::size_t row, std::string_view column) const;
  /// Like text, but an empty field is an Error.
  const std::string& required_text(std::size_t row, std::string_view column) const;
  /// Number in a field; nothing where the field is empty. Throws Error where it is not a finite number.
  std::optional<double> number(std::size_t row, std::string_view column) const;
  double required_number(std::size_t row, std::string_view column) const;
  /// "file:line", for messages about a row.
  std::string where(std::size_t row) const;

 private:
  std::optional<std::size_t> column_index(std::string_view column) const;

  std::filesystem::path path_;
  std::vector<std::string> header_;
  std::vector<std::vector<std::string>> fields_;
  std::vector<std::size_t> lines_;
};

/// A field as it must stand in a CSV file: quoted where it holds a comma, a quote or a line break, begins as
/// a comment does ('#', '%', '/': the row would be one), or begins or ends with blanks (which belong to nobody unless
/// quoted).
std::string csv_field(std::string_view text);

/// Fixed decimals as the exchange files have them, so exact to half of the last; empty where the value is not finite.
std::string csv_length(double metres);    ///< 5 decimals
std::string csv_degrees(double degrees);  ///< 8 decimals
std::string csv_pixels(double pixels);    ///< 4 decimals
/// A standard deviation, which a reader must find greater than 0 again: `decimals` of them, and more where it is small,
/// so that three digits count.
std::string csv_sigma(double sigma, int decimals = 5);

}  // namespace mesograph
