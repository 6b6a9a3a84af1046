#pragma once

#include <fmt/format.h>

#include <bit>
#include <cstring>
#include <filesystem>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/words.hpp>
#include <string>
#include <type_traits>

// Fills and compares values field by field, so that what saving, hashing or telling forgets is found. Goes by the
// values themselves: for a struct with a list of fields that list, whose completeness its arity shows.

/// A value that differs from the default in every part; `n` counts on, so that no two parts are alike.
template <typename T>
void fill(T& value, int& n) {
  using mesograph::Absent;
  if constexpr (mesograph::Fielded<T>) {
    T::fields(value, [&](const char*, auto& field, Absent = Absent::null) { fill(field, n); });
  } else if constexpr (std::is_same_v<T, bool>) {
    value = !value;
  } else if constexpr (mesograph::Worded<T>) {
    value = static_cast<T>((static_cast<std::size_t>(value) + 1) % words(T{}).size());
  } else if constexpr (std::is_enum_v<T>) {
    value = static_cast<T>(0);
  } else if constexpr (std::is_arithmetic_v<T>) {
    value = static_cast<T>(1 + ++n % 97 + (std::is_floating_point_v<T> ? 0.25 : 0));
  } else if constexpr (std::is_same_v<T, std::string> || std::is_same_v<T, std::filesystem::path>) {
    value = fmt::format("text, {}", ++n);
  } else if constexpr (requires { value.has_value(); }) {
    fill(value.emplace(), n);
  } else if constexpr (requires { typename T::mapped_type; }) {
    typename T::key_type key{};
    fill(key, n), fill(value[key], n);
  } else if constexpr (requires { value.allFinite(); }) {
    for (int i = 0; i < value.size(); ++i) value(i % value.rows(), i / value.rows()) = ++n + 0.5;
  } else if constexpr (requires { value.first, value.second; }) {
    fill(value.first, n), fill(value.second, n);
  } else if constexpr (requires { value.begin(); }) {
    if constexpr (requires { value.resize(2); }) value.resize(2);
    for (auto& item : value) fill(item, n);
  } else {  // a struct of plain numbers
    for (std::size_t i = 0; i < sizeof(T); ++i)
      reinterpret_cast<unsigned char*>(&value)[i] = static_cast<unsigned char>(++n % 7 + 1);
  }
}

/// Whether two values are the same to the bit.
template <typename T>
bool same(const T& a, const T& b) {
  using mesograph::Absent;
  if constexpr (mesograph::Fielded<T>) {
    bool out = true;
    std::vector<const void*> theirs;
    T::fields(b, [&](const char*, const auto& field, Absent = Absent::null) { theirs.push_back(&field); });
    std::size_t i = 0;
    T::fields(a, [&](const char*, const auto& field, Absent = Absent::null) {
      out = same(field, *static_cast<const std::remove_reference_t<decltype(field)>*>(theirs[i++])) && out;
    });
    return out;
  } else if constexpr (std::is_same_v<T, double>) {
    return std::bit_cast<std::uint64_t>(a) == std::bit_cast<std::uint64_t>(b);
  } else if constexpr (requires { a.has_value(); }) {
    return a.has_value() == b.has_value() && (!a || same(*a, *b));
  } else if constexpr (requires { a.first, a.second; }) {
    return same(a.first, b.first) && same(a.second, b.second);
  } else if constexpr (requires { a.allFinite(); }) {
    return a.size() == b.size() && std::memcmp(a.data(), b.data(), sizeof(*a.data()) * a.size()) == 0;
  } else if constexpr (requires { a.begin(); } && !std::is_same_v<T, std::string> &&
                       !std::is_same_v<T, std::filesystem::path>) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const auto& x, const auto& y) { return same(x, y); });
  } else if constexpr (requires { a == b; }) {
    return a == b;
  } else {
    return std::memcmp(&a, &b, sizeof a) == 0;
  }
}
