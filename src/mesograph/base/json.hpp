#pragma once

#include <Eigen/Core>
#include <array>
#include <cmath>
#include <map>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

namespace mesograph {

using Json = nlohmann::ordered_json;

/// A value as JSON, by the list of its fields (base/fields), fields in their order. Numbers that are not finite and
/// empty optionals are null, unless their field says that they are omitted; enumerations are their words; vectors and
/// pairs are arrays, maps objects. Exact: finite doubles are written with as many digits as give them back. Nothing is
/// looked up in what this makes: the core goes on with the values themselves.
template <typename T>
Json json_of(const T& value);

template <typename T>
inline constexpr bool is_absent_of = false;
template <typename T>
inline constexpr bool is_absent_of<std::optional<T>> = true;

template <typename T>
bool holds_nothing(const T& value) {
  if constexpr (is_absent_of<T>)
    return !value.has_value();
  else if constexpr (std::is_floating_point_v<T>)
    return !std::isfinite(value);
  else if constexpr (requires { value.allFinite(); })
    return !value.allFinite();
  else if constexpr (requires { value.empty(); })
    return value.empty();
  else
    return false;
}

template <Fielded T>
Json json_of_fields(const T& value) {
  Json out = Json::object();
  T::fields(value, [&](const char* name, const auto& field, Absent absent = Absent::null) {
    if (absent == Absent::null || (absent == Absent::omitted && !holds_nothing(field))) out[name] = json_of(field);
  });
  return out;
}

template <typename T>
Json json_of(const T& value) {
  if constexpr (Fielded<T>) {
    return json_of_fields(value);
  } else if constexpr (Worded<T>) {
    return word_of(value);
  } else if constexpr (std::is_floating_point_v<T>) {
    return std::isfinite(value) ? Json(value) : Json();
  } else if constexpr (is_absent_of<T>) {
    return value ? json_of(*value) : Json();
  } else if constexpr (requires { typename T::mapped_type; }) {
    Json out = Json::object();
    for (const auto& [key, item] : value) out[key] = json_of(item);
    return out;
  } else if constexpr (requires { value.allFinite(); }) {
    Json out = Json::array();
    for (Eigen::Index i = 0; i < value.size(); ++i) out.push_back(json_of(value(i)));
    return value.allFinite() ? out : Json();
  } else if constexpr (requires { value.first, value.second; }) {
    return Json::array({json_of(value.first), json_of(value.second)});
  } else if constexpr (std::is_convertible_v<T, std::string> || std::is_arithmetic_v<T>) {
    return value;
  } else {
    Json out = Json::array();
    for (const auto& item : value) out.push_back(json_of(item));
    return out;
  }
}

}  // namespace mesograph
