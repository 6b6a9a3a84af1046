#pragma once

#include <concepts>
#include <cstddef>
#include <utility>

namespace mesograph {

/// How a field stands in JSON where it holds nothing.
enum class Absent {
  null,     ///< as null: its reader may count on the key
  omitted,  ///< not at all
  never,    ///< the field is saved (base/pack) and not told (base/json)
};

/// A struct that is saved, hashed or told has ONE list of its fields, beside them:
///   template <typename Self, typename Visit>
///   static void fields(Self& self, Visit&& visit) {
///     visit("count", self.count);
///     visit("shift", self.shift, Absent::omitted);
///   }
/// base/json and base/pack go by it, so that nothing can be saved and forgotten in hashing, or told and not saved.
/// That no field is missing from a list, tests show: they count the members of the aggregate (arity) and the fields
/// visited, and demand back a value in which every field differs from its default.
struct AnyField {
  template <typename Name, typename Field>
  void operator()(Name&&, Field&&, Absent = Absent::null) const {}
};
template <typename T>
concept Fielded = requires(T& value) {
  T::fields(value, AnyField{});
};

/// Number of fields that the list of T names. Exact; cost: one value by default.
template <Fielded T>
std::size_t visited_fields() {
  T value{};
  std::size_t n = 0;
  T::fields(value, [&](const char*, auto&, Absent = Absent::null) { ++n; });
  return n;
}

/// Something that can stand for a value of any type but T itself, where nothing is evaluated.
template <typename T>
struct AnyBut {
  template <typename U>
  requires(!std::same_as<U, T> && !std::derived_from<T, U>) operator U() const;
};

/// Number of members of an aggregate, by how many values it can be made from. Members that are C arrays count once for
/// each of their elements: fields are std::array instead. Source: the count of Boost.PFR, A. Polukhin (2016), by trial.
template <typename T, std::size_t... I>
constexpr bool made_from(std::index_sequence<I...>) {
  return requires { T{((void)I, AnyBut<T>{})...}; };
}
template <typename T, std::size_t N = 64>
constexpr std::size_t arity() {
  if constexpr (N == 0)
    return 0;
  else if constexpr (made_from<T>(std::make_index_sequence<N>{}))
    return N;
  else
    return arity<T, N - 1>();
}

}  // namespace mesograph
