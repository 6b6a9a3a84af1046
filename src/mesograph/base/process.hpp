#pragma once

#include <sys/resource.h>

namespace mesograph {

/// Largest resident memory of this process so far, MB.
inline double peak_memory_mb() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return static_cast<double>(usage.ru_maxrss) / 1024.0;
}

}  // namespace mesograph
