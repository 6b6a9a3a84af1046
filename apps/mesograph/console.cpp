#include "console.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/status.hpp>
#include <typeinfo>

namespace mesograph::app {

using Clock = std::chrono::steady_clock;

ConsoleProgress::ConsoleProgress(bool quiet, std::filesystem::path trace, int threads)
    : quiet_(quiet), terminal_(isatty(STDERR_FILENO) != 0), trace_file_(std::move(trace)), trace_(threads) {
  write_trace();  // that it cannot be written is said before the work and not after it
}
ConsoleProgress::~ConsoleProgress() { finish_step(); }

void ConsoleProgress::finish_step() {
  if (!step_.empty() && total_ > 0) show(true);
  step_.clear();
}

void ConsoleProgress::write_trace() {
  const std::lock_guard lock(mutex_);
  if (trace_file_.empty()) return;
  trace_.end_step();
  trace_.write(trace_file_);
}

void ConsoleProgress::start(std::string_view step, std::size_t total) {
  const std::lock_guard lock(mutex_);
  finish_step();
  if (!trace_file_.empty()) trace_.step(step, total);
  step_ = step;
  total_ = total;
  done_ = 0;
  started_ = shown_ = Clock::now();
  if (terminal_ && total_ > 0) show(false);
}

void ConsoleProgress::advance(std::size_t parts) {
  const std::lock_guard lock(mutex_);
  done_ += parts;
  if (!trace_file_.empty()) trace_.part();
  const auto pause = terminal_ ? std::chrono::milliseconds(100) : std::chrono::milliseconds(3000);
  if (Clock::now() - shown_ < pause) return;
  show(false);
  shown_ = Clock::now();
}

void ConsoleProgress::say(std::string_view text) {
  const std::lock_guard lock(mutex_);
  said_.emplace_back(text);
  if (!quiet_) fmt::print(stderr, "{}note: {}\n", terminal_ ? "\r\033[K" : "", text);
}

void ConsoleProgress::show(bool last) {
  if (quiet_ || (last && !terminal_ && Clock::now() - started_ < std::chrono::seconds(3))) return;
  const double seconds = std::chrono::duration<double>(Clock::now() - started_).count();
  const double rate = seconds > 0 ? static_cast<double>(done_) / seconds : 0.0;
  const double left = rate > 0 ? static_cast<double>(total_ - std::min(done_, total_)) / rate : 0.0;
  const std::string numbers = last         ? fmt::format("{} in {:.1f} s", done_, seconds)
                              : done_ == 0 ? fmt::format("0/{}", total_)
                                           : fmt::format("{}/{}, {:.1f}/s, {:.0f} s left", done_, total_, rate, left);
  if (!terminal_) {
    fmt::print(stderr, "{}: {}\n", step_, numbers);
    return;
  }
  const std::size_t width = 24, filled = total_ ? std::min(width, width * done_ / total_) : width;
  fmt::print(stderr, "\r\033[K{:<24} [{}{}] {}{}", step_, std::string(filled, '='), std::string(width - filled, ' '),
             numbers, last ? "\n" : "");
  std::fflush(stderr);
}

std::string Call::only_path(const char* what) const {
  if (paths().size() != 1) throw UsageError("{} needs one {}; see mesograph {} --help", command, what, command);
  return paths()[0];
}

std::string standing_words(Call& call, const survey::Survey& survey, const std::string& stage, bool made) {
  const std::string behind = stages::behind(survey, stage);
  if (!behind.empty())
    call.progress.say(behind + "; this rests on it as it was, and mesograph run makes all of it anew");
  return made ? "" : behind.empty() ? " (current)" : " (as it was)";
}

}  // namespace mesograph::app
