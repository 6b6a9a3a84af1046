#pragma once

#include <chrono>
#include <cstddef>
#include <filesystem>
#include <map>
#include <string>
#include <string_view>
#include <thread>
#include <vector>

namespace mesograph::app {

/// When a command did what: its steps with their CPU time, and beneath them the parts of each, thread by thread, from
/// the end of the thread's part before; what is left open at a step's end is waiting. Written in the Trace Event Format
/// that browsers show (chrome://tracing). Not thread-safe: the caller holds a lock.
/// Cost: some hundred bytes a part; parts of less than a millisecond are joined to the one before.
class Trace {
 public:
  /// `threads`: as many may work, for the busy share of a step.
  explicit Trace(int threads) : threads_(threads), begin_(Clock::now()) {}

  void step(std::string_view name, std::size_t parts);
  void part();
  void end_step();
  /// Throws Error where the file cannot be written.
  void write(const std::filesystem::path& file) const;

 private:
  using Clock = std::chrono::steady_clock;
  struct Span {
    std::string name;
    int thread;         ///< 0: a step
    double begin, end;  ///< microseconds
    std::size_t parts;
    double cpu = 0;  ///< seconds, of a step
  };
  double now() const { return std::chrono::duration<double, std::micro>(Clock::now() - begin_).count(); }

  int threads_;
  Clock::time_point begin_;
  std::vector<Span> spans_;
  std::string step_;
  std::size_t step_parts_ = 0;
  double step_begin_ = 0, step_cpu_ = 0;
  std::map<std::thread::id, int> numbers_;
  std::map<int, std::size_t> last_;  ///< of a thread in this step: its latest span
};

}  // namespace mesograph::app
