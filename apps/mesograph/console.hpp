#pragma once

#include <fmt/format.h>

#include <chrono>
#include <cxxopts.hpp>
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

namespace mesograph::app {

/// Progress on stderr: a bar on a terminal, plain lines every few seconds elsewhere.
class ConsoleProgress : public Progress {
 public:
  explicit ConsoleProgress(bool quiet);
  ~ConsoleProgress() override;
  void start(std::string_view step, std::size_t total) override;
  void advance(std::size_t parts) override;
  void say(std::string_view text) override;
  const std::vector<std::string>& said() const { return said_; }

 private:
  void show(bool last);
  void finish_step();

  std::mutex mutex_;
  bool quiet_, terminal_;
  std::string step_;
  std::size_t total_ = 0, done_ = 0;
  std::chrono::steady_clock::time_point started_, shown_;
  std::vector<std::string> said_;
};

/// What a command is given and gives back.
struct Call {
  std::string command;
  cxxopts::ParseResult options;
  std::vector<std::string> paths;
  std::filesystem::path survey;
  ConsoleProgress& progress;
  Json json;                       ///< the command's own fields for --json
  std::vector<std::string> lines;  ///< what a person reads on stdout

  bool has(const char* name) const { return options.count(name) > 0; }
  /// An option as it was written; of a list its parts with commas between.
  std::string text(const char* name) const;
  /// Parts of an option that is a list (list_value): separated by commas, or the option given several times.
  std::vector<std::string> list(const char* name) const;
  /// The one PATH that a command needs. Throws UsageError where there is none or more.
  std::string only_path(const char* what) const;
};

struct Command {
  std::string name, summary, positional_help;
  std::function<void(cxxopts::Options&)> add_options;
  std::function<void(Call&)> run;
  std::vector<std::pair<std::string, std::string>> renamed = {};  ///< options: the old name and the one of now
};

const std::vector<Command>& commands();

/// What an option that is a list is declared with: only such a one may be given several times.
inline std::shared_ptr<cxxopts::Value> list_value() { return cxxopts::value<std::vector<std::string>>(); }

/// Throws UsageError where an option that is no list is given twice: the first would be lost without a word.
void check_repeated(const cxxopts::ParseResult& options);

/// The paths of a call as they were written, commas and all.
std::vector<std::string> paths_of(const cxxopts::ParseResult& options);

/// A note where a stage rests on one that is not current; and what stands behind its figures: nothing where it was
/// made now, else that it was not.
std::string standing_words(Call& call, const survey::Survey& survey, const std::string& stage, bool made);

/// Comma-separated list -> its parts.
std::vector<std::string> split_list(const std::string& text, char separator = ',');

/// Number of an option of that type; nothing where it was not given.
template <typename T>
std::optional<T> optional_value(const Call& call, const char* name) {
  return call.has(name) ? std::optional<T>(call.options[name].as<T>()) : std::nullopt;
}

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
Command report_command();
Command export_command();
Command run_command();
Command measure_command();
Command status_command();
Command simulate_command();
Command demo_command();

}  // namespace mesograph::app
