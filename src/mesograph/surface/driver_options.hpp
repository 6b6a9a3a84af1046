#pragma once

#include <cpl_string.h>

#include <string>
#include <vector>

namespace mesograph::surface {

/// Options as GDAL's drivers take them, kept as long as they are needed. It computes nothing: no accuracy or cost to
/// state.
class DriverOptions {
 public:
  explicit DriverOptions(const std::vector<std::string>& words) {
    for (const std::string& word : words) list_ = CSLAddString(list_, word.c_str());
  }
  ~DriverOptions() { CSLDestroy(list_); }
  DriverOptions(const DriverOptions&) = delete;
  DriverOptions& operator=(const DriverOptions&) = delete;
  char** get() const { return list_; }

 private:
  char** list_ = nullptr;
};

}  // namespace mesograph::surface
