#pragma once

#include <fmt/format.h>

#include <chrono>
#include <filesystem>
#include <functional>
#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/survey/survey.hpp>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "options.hpp"
#include "trace.hpp"

namespace mesograph::app {

/// Progress on stderr: a bar on a terminal, plain lines every few seconds elsewhere.
class ConsoleProgress : public Progress {
 public:
  /// `trace`: noted there when what was done; empty: nowhere. `threads`: as many may work.
  ConsoleProgress(bool quiet, std::filesystem::path trace, int threads);
  ~ConsoleProgress() override;
  void start(std::string_view step, std::size_t total) override;
  void advance(std::size_t parts) override;
  void say(std::string_view text) override;
  const std::vector<std::string>& said() const { return said_; }
  /// The trace so far, where one is wanted. Throws Error where it cannot be written.
  void write_trace();

 private:
  void show(bool last);
  void finish_step();

  std::mutex mutex_;
  bool quiet_, terminal_;
  std::string step_;
  std::size_t total_ = 0, done_ = 0;
  std::chrono::steady_clock::time_point started_, shown_;
  std::vector<std::string> said_;
  std::filesystem::path trace_file_;
  Trace trace_;
};

/// What a command is given and gives back.
struct Call : Given {
  std::string command;
  std::filesystem::path survey;
  ConsoleProgress& progress;
  Json json = {};                       ///< the command's own fields for --json
  std::vector<std::string> lines = {};  ///< what a person reads on stdout

  /// The one PATH that a command needs. Throws UsageError where there is none or more.
  std::string only_path(const char* what) const;
};

struct Command {
  std::string name, summary, positional_help;
  std::vector<Option> options;
  std::function<void(Call&)> run;
  std::vector<std::pair<std::string, std::string>> renamed = {};  ///< options: the old name and the one of now
};

const std::vector<Command>& commands();

/// A note where a stage rests on one that is not current; and what stands behind its figures: nothing where it was
/// made now, else that it was not.
std::string standing_words(Call& call, const survey::Survey& survey, const std::string& stage, bool made);

Command new_command();
Command crs_command();
Command admit_command();
Command tie_command();
Command orient_command();
Command control_command();
Command sight_command();
Command adjust_command();
Command densify_command();
Command cloud_command();
Command surface_command();
Command mosaic_command();
Command mesh_command();
Command volume_command();
Command compare_command();
Command report_command();
Command export_command();
Command run_command();
Command measure_command();
Command status_command();
Command simulate_command();
Command demo_command();

}  // namespace mesograph::app
