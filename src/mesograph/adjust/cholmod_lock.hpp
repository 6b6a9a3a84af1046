#pragma once

#include <mutex>

namespace mesograph::adjust {

/// Held while CHOLMOD works. The BLAS under it may be one that is built for a single thread: two factorisations at once
/// then share its work buffer, and one in some ten thousand comes out wrong. What is built around them runs in
/// parallel.
inline std::mutex& cholmod_lock() {
  static std::mutex lock;
  return lock;
}

}  // namespace mesograph::adjust
