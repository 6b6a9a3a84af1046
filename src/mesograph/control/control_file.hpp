#pragma once

#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::control {

/// What the numbers of a control file count.
enum class LengthUnit { metre, millimetre, foot, us_foot };
/// Metres a unit: 1, 0.001, 0.3048, 1200/3937.
double metres_of(LengthUnit unit);
std::string to_string(LengthUnit unit);

struct ControlFileOptions {
  /// What each column holds, in order: id, east, north, height, lat, lon, x, y, z (geocentric), role, sigma_h, sigma_v,
  /// sigma_e, sigma_n, code; "-" or any other word: skipped. Empty: the file's header says.
  std::vector<std::string> columns;
  /// Unit of the plan and of heights; nothing: numbers stay as they stand in the file, in the unit of its CRS.
  std::optional<LengthUnit> plan = std::nullopt, height = std::nullopt;
};

/// What a file's coordinates are.
enum class Coordinates { grid, geographic, geocentric };

/// What a file says that a point is for; `unsaid`: nothing, which means control.
enum class PointRole { unsaid, control, check, off };

/// A row: angles in degrees, lengths in metres where the options name a unit, else as they stand in the file.
struct FilePoint {
  std::string id, where;                         ///< where: "file:line"
  std::string role_word;                         ///< as written
  PointRole role = PointRole::unsaid;            ///< as understood (set_roles)
  double east = nan, north = nan, height = nan;  ///< or longitude, latitude, height; or geocentric X, Y, Z
  double sigma_h = nan, sigma_v = nan;           ///< m
  double sigma_e = nan, sigma_n = nan;           ///< m, both or none
};

/// Throws Error, naming where, where a sigma is not greater than 0, or only one of sigma_e and sigma_n is there.
void check_sigmas(const FilePoint& point);

struct ControlFile {
  Coordinates coordinates = Coordinates::grid;
  std::vector<FilePoint> points;
  std::vector<std::string> columns;  ///< as understood
  char delimiter = ',';              ///< ' ': blanks
  bool decimal_comma = false, latin1 = false;
  std::vector<std::string> guesses;  ///< what was understood where a file does not say it, a sentence each
};

/// Understands the roles of a file's points, in English, German, French, Spanish and Norwegian, by the whole of the
/// file: CP beside GCP is a check, alone it is control; that is a guess, and noted. Throws Error, naming where, for a
/// word that is none.
void set_roles(std::vector<FilePoint>& points, std::vector<std::string>& guesses);

/// The columns of a file are not known: neither a header nor the options name them.
class UnnamedColumns : public Error {
 public:
  UnnamedColumns(const std::string& where, std::vector<std::string> like);
  std::vector<std::string> columns;  ///< what may stand there: id, north, east, height, "-"
};

/// Reads any delimited text: comma, semicolon, tab, bar or blanks; decimal point or comma; quotes; lines that begin
/// with
/// '#', '//' or '%' skipped; UTF-8, with or without mark, else Latin-1. Angles in degrees, or as degrees, minutes and
/// seconds with N, S, E, W or signs. Headings in English, German, French, Spanish and Norwegian. Columns x, y, z are
/// geocentric where the numbers lie on the Earth's surface so, else east, north, height (a guess, noted).
/// Throws Error with file and line where the columns are not known (naming options that would do), a number is none, an
/// id is empty or comes twice, only one of two plan coordinates is there, or a sigma is not greater than 0.
/// Exact: numbers as the file has them. Cost: the file in memory.
ControlFile read_control_file(const std::filesystem::path& path, const ControlFileOptions& options = {});

/// Degrees of an angle as people write it: 61.5042, 61 30 15.12, 61d30'15.12"N. Nothing where it is none.
double degrees_from(const std::string& text);

/// Our word for a column's or field's heading ("Easting" -> "east"); empty: none of ours.
std::string column_meaning(const std::string& heading);

}  // namespace mesograph::control
