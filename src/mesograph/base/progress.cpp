#include <mesograph/base/errors.hpp>
#include <mesograph/base/progress.hpp>

namespace mesograph {

void Progress::start(std::string_view, std::size_t) {}
void Progress::advance(std::size_t) {}
void Progress::say(std::string_view) {}

void Progress::check() const {
  if (cancelled_) throw Cancelled();
}

}  // namespace mesograph
