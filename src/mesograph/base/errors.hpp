#pragma once

#include <fmt/format.h>

#include <exception>
#include <stdexcept>
#include <string>
#include <utility>

namespace mesograph {

/// Something outside the program is wrong: a file, an option, a full disk. One sentence: what, where, what to do.
/// Caught in apps/ (exit code 3), and in survey/ where one bad item among many becomes its status.
class Error : public std::runtime_error {
 public:
  template <typename... Args>
  explicit Error(fmt::format_string<Args...> text, Args&&... args)
      : std::runtime_error(fmt::format(text, std::forward<Args>(args)...)) {}
};

/// The command was called wrongly (exit code 2).
class UsageError : public Error {
  using Error::Error;
};

/// The user interrupted the work (exit code 130).
class Cancelled : public std::exception {
 public:
  const char* what() const noexcept override { return "interrupted"; }
};

}  // namespace mesograph
