#pragma once

#include <mesograph/cloud/judge.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/draw/cloud_colours.hpp>

#include "console.hpp"

namespace mesograph::app {

/// The cloud that an action reads, and the file it writes.
struct CloudFiles {
  std::filesystem::path in, out;
};

/// By the action's paths and --out. `ending`: of what it writes (".las", also ".laz"; ".png"; ".csv"). Throws
/// UsageError.
CloudFiles cloud_files(Call& call, const char* ending);

/// The file that --out names, or one beside the first named like it and the action.
std::filesystem::path cloud_out(const Call& call, const std::filesystem::path& in, const char* ending);

/// Throws UsageError where a pattern says what is read and --out names no file.
void refuse_pattern(const Call& call, const std::filesystem::path& in);

void say_oddities(Call& call, const std::vector<std::string>& oddities);

using cloud::Words;

/// How lengths are counted.
struct LasUnits {
  Eigen::Vector3d metres;  ///< in a unit of the file's axes
  Eigen::Vector3d option;  ///< in a unit of options: 1, or the file's where --units file says so
};
LasUnits units_of(const Call& call, const cloud::LasHeader& header);

/// Options in m that are lengths, areas, heights; `fallback` in m. Throw UsageError where they are less than `least`.
double length_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least);
double area_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least);
double height_of(const Call& call, const LasUnits& units, const char* name, double fallback, double least);

/// Numbers with commas between, as many as `names` has. Throws UsageError.
std::vector<double> numbers_of(const Call& call, const char* option, const std::vector<const char*>& names);
/// Throws UsageError where it is not 0 to 255.
std::uint8_t class_number(const std::string& text, const char* option);

/// What --box, --box-turn, --within, --outside, --class and --heights say.
cloud::Selection selection_of(const Call& call, const cloud::LasReader& file);
/// What --above says of the points: heights above the ground; empty where it is not given.
Words words_above(Call& call, cloud::LasReader& file, const std::filesystem::path& out);

/// A number of at least `least`. Throws UsageError.
double number_of(const Call& call, const char* name, double fallback, double least);

/// Throws UsageError where it is not EAST:NORTH.
Eigen::Vector2d parse_place(const std::string& text);

/// What a cloud calls its coordinate system: the name in its WKT, else its code; empty: it says none.
std::string crs_name(const cloud::LasHeader& header);

/// What --by says of a cloud that is to be drawn. Throws UsageError, and Error where the cloud does not have it.
draw::Shown shown_of(const Call& call, const cloud::LasHeader& header);

/// What was written, for people and --json.
void tell_written(Call& call, const std::filesystem::path& out, std::uint64_t kept, std::uint64_t all);

/// The actions of mesograph cloud that write clouds, and those that compare them with points.
void run_cut(Call& call);
void run_thin(Call& call);
void run_clean(Call& call);
void run_ground(Call& call);
void run_classify(Call& call);
void run_stream(Call& call);
void run_set(Call& call);
void run_shift(Call& call);
void run_move(Call& call);
void run_join(Call& call);
void run_compare_points(Call& call);

/// Pictures of a cloud: one, a sheet of several views, a flight.
void run_render(Call& call);

}  // namespace mesograph::app
