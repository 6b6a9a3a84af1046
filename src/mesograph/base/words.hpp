#pragma once

#include <algorithm>
#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <type_traits>

namespace mesograph {

/// An enumeration whose values have words: the words that people write in files and options and read in tables. Its
/// namespace gives them, in the order of the enumerators, which count from 0:
///   constexpr std::array words(Role) { return std::array<std::string_view, 3>{"control", "check", "off"}; }
/// So a word is written once, becomes a value where a file is read, and a word again where one is written.
template <typename E>
concept Worded = std::is_enum_v<E> && requires {
  words(E{}).size();
};

/// The word of a value. Exact: value_of gives it back. Cost: a look-up.
template <Worded E>
std::string word_of(E value) {
  return std::string(words(value).at(static_cast<std::size_t>(value)));
}

/// The value of a word; nothing where none has it, also for other capitals or blanks around it.
template <Worded E>
std::optional<E> from_word(std::string_view word) {
  constexpr auto all = words(E{});
  const auto found = std::find(all.begin(), all.end(), word);
  if (found == all.end()) return std::nullopt;
  return static_cast<E>(found - all.begin());
}

}  // namespace mesograph
