#include "trace.hpp"

#include <sys/resource.h>

#include <mesograph/base/files.hpp>
#include <mesograph/base/json.hpp>

namespace mesograph::app {

namespace {

/// Of this process and what it started, all threads together.
double cpu_seconds() {
  double out = 0;
  for (const int who : {RUSAGE_SELF, RUSAGE_CHILDREN}) {
    rusage used{};
    getrusage(who, &used);
    for (const timeval& t : {used.ru_utime, used.ru_stime})
      out += static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec);
  }
  return out;
}

}  // namespace

void Trace::step(std::string_view name, std::size_t parts) {
  end_step();
  step_ = name, step_parts_ = parts;
  step_begin_ = now(), step_cpu_ = cpu_seconds();
  last_.clear();
}

void Trace::end_step() {
  if (!step_.empty()) spans_.push_back({step_, 0, step_begin_, now(), step_parts_, cpu_seconds() - step_cpu_});
  step_.clear();
}

void Trace::part() {
  if (step_.empty()) return;
  constexpr double short_us = 1000;
  const int thread = numbers_.emplace(std::this_thread::get_id(), static_cast<int>(numbers_.size()) + 1).first->second;
  const double end = now();
  const auto before = last_.find(thread);
  if (before != last_.end() && end - spans_[before->second].end < short_us) {
    spans_[before->second].end = end, ++spans_[before->second].parts;
    return;
  }
  const double begin = before == last_.end() ? step_begin_ : spans_[before->second].end;
  last_[thread] = spans_.size();
  spans_.push_back({step_, thread, begin, end, 1});
}

void Trace::write(const std::filesystem::path& file) const {
  Json events = Json::array();
  for (int thread = 0; thread <= static_cast<int>(numbers_.size()); ++thread)
    events.push_back({{"name", "thread_name"},
                      {"ph", "M"},
                      {"pid", 1},
                      {"tid", thread},
                      {"args", {{"name", thread == 0 ? "steps" : "thread " + std::to_string(thread)}}}});
  for (const Span& s : spans_) {
    Json args{{"parts", s.parts}};
    if (s.thread == 0) {
      args["cpu_seconds"] = s.cpu;
      args["busy_share"] = s.end > s.begin ? 1e6 * s.cpu / ((s.end - s.begin) * threads_) : 0;
    }
    events.push_back({{"name", s.name},
                      {"ph", "X"},
                      {"ts", s.begin},
                      {"dur", s.end - s.begin},
                      {"pid", 1},
                      {"tid", s.thread},
                      {"args", args}});
  }
  write_file(file, Json{{"traceEvents", events}, {"displayTimeUnit", "ms"}}.dump() + "\n");
}

}  // namespace mesograph::app
