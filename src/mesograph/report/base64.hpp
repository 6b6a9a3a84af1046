#pragma once

#include <cpl_conv.h>
#include <cpl_string.h>

#include <string>

namespace mesograph::report {

/// Bytes as text for a data URL.
inline std::string base64(const std::string& bytes) {
  char* text = CPLBase64Encode(static_cast<int>(bytes.size()), reinterpret_cast<const GByte*>(bytes.data()));
  std::string out(text);
  CPLFree(text);
  return out;
}

}  // namespace mesograph::report
