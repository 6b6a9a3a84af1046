#pragma once

#include <mesograph/cloud/judge.hpp>

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

void say_oddities(Call& call, const std::vector<std::string>& oddities);

/// A number of at least `least`. Throws UsageError.
double number_of(const Call& call, const char* name, double fallback, double least);

/// Throws UsageError where it is not EAST:NORTH.
Eigen::Vector2d parse_place(const std::string& text);

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

}  // namespace mesograph::app
