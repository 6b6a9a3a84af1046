#pragma once

#include <atomic>
#include <cstddef>
#include <string_view>

namespace mesograph {

/// How long work tells what it does, and asks whether to go on. This base class is silent and never cancels.
/// `advance` and `check` may be called from any thread.
/// Cost: two virtual calls an item.
class Progress {
 public:
  virtual ~Progress() = default;
  /// Starts a step of `total` parts named `step` ("matching pairs"). Ends the step before.
  virtual void start(std::string_view step, std::size_t total);
  virtual void advance(std::size_t parts = 1);
  /// A sentence for the user about something that was noticed and does not stop the work.
  virtual void say(std::string_view text);
  /// Throws Cancelled once the user has interrupted.
  void check() const;
  void cancel() { cancelled_ = true; }

 private:
  std::atomic<bool> cancelled_ = false;
};

}  // namespace mesograph
