#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <cstring>
#include <filesystem>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/files.hpp>
#include <optional>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

namespace mesograph {

/// Appends a value to bytes, by the list of its fields (base/fields): numbers as they lie in memory, so that every bit
/// survives, NaN too; texts, vectors and maps behind their length; optionals behind a byte that says whether they hold
/// one. The bytes tell nothing of themselves: who reads them must know the type. They stay on one machine.
/// Cost: one copy; vectors of plain numbers and of structs without fields in one piece.
template <typename T>
void pack(std::string& bytes, const T& value);

/// Reads bytes that pack made. Throws Error, which says no more than that they are damaged, where they end early or a
/// length cannot be.
class Unpacker {
 public:
  explicit Unpacker(std::string_view bytes) : bytes_(bytes) {}
  template <typename T>
  void get(T& value);
  bool at_end() const { return bytes_.empty(); }

 private:
  std::string_view take(std::size_t n) {
    if (n > bytes_.size()) throw Error("its bytes end early");
    const std::string_view out = bytes_.substr(0, n);
    bytes_.remove_prefix(n);
    return out;
  }
  std::size_t length(std::size_t least_bytes_each) {
    std::uint64_t n = 0;
    std::memcpy(&n, take(sizeof n).data(), sizeof n);
    if (n > bytes_.size() / std::max<std::size_t>(1, least_bytes_each)) throw Error("a length in it cannot be");
    return static_cast<std::size_t>(n);
  }
  std::string_view bytes_;
};

/// Numbers, enumerations, and structs of such without a list of fields: their bytes are their value.
template <typename T>
concept Plain = std::is_trivially_copyable_v<T> && !Fielded<T> && !std::is_pointer_v<T>;

template <typename T>
concept EigenFixed = requires(const T& value) {
  value.allFinite();
  requires T::SizeAtCompileTime != Eigen::Dynamic;
};

template <typename T>
void pack(std::string& bytes, const T& value) {
  const auto put_length = [&](std::uint64_t n) { bytes.append(reinterpret_cast<const char*>(&n), sizeof n); };
  if constexpr (Fielded<T>) {
    T::fields(value, [&](const char*, const auto& field, Absent = Absent::null) { pack(bytes, field); });
  } else if constexpr (EigenFixed<T>) {
    bytes.append(reinterpret_cast<const char*>(value.data()), sizeof(typename T::Scalar) * value.size());
  } else if constexpr (requires { value.has_value(); }) {
    bytes.push_back(value.has_value() ? 1 : 0);
    if (value) pack(bytes, *value);
  } else if constexpr (requires { typename T::mapped_type; }) {
    put_length(value.size());
    for (const auto& [key, item] : value) pack(bytes, key), pack(bytes, item);
  } else if constexpr (std::is_same_v<T, std::filesystem::path>) {
    pack(bytes, value.string());
  } else if constexpr (requires { value.first, value.second; }) {
    pack(bytes, value.first), pack(bytes, value.second);
  } else if constexpr (Plain<T>) {
    bytes.append(reinterpret_cast<const char*>(&value), sizeof value);
  } else {  // texts, vectors, arrays of what is not plain
    if constexpr (requires(T & v) { v.resize(0); }) put_length(value.size());
    if constexpr (Plain<typename T::value_type> && !std::is_same_v<T, std::vector<bool>>)
      bytes.append(reinterpret_cast<const char*>(value.data()), value.size() * sizeof(typename T::value_type));
    else
      for (const auto& item : value) pack(bytes, item);
  }
}

template <typename T>
void Unpacker::get(T& value) {
  if constexpr (Fielded<T>) {
    T::fields(value, [&](const char*, auto& field, Absent = Absent::null) { get(field); });
  } else if constexpr (EigenFixed<T>) {
    const std::size_t n = sizeof(typename T::Scalar) * value.size();
    std::memcpy(value.data(), take(n).data(), n);
  } else if constexpr (requires { value.has_value(); }) {
    value.reset();
    if (take(1)[0] != 0) get(value.emplace());
  } else if constexpr (requires { typename T::mapped_type; }) {
    value.clear();
    for (std::size_t n = length(1); n > 0; --n) {
      typename T::key_type key;
      get(key);
      get(value[key]);
    }
  } else if constexpr (std::is_same_v<T, std::filesystem::path>) {
    std::string text;
    get(text);
    value = text;
  } else if constexpr (requires { value.first, value.second; }) {
    get(value.first), get(value.second);
  } else if constexpr (Plain<T>) {
    std::memcpy(&value, take(sizeof value).data(), sizeof value);
  } else {
    constexpr bool plain = Plain<typename T::value_type>;
    if constexpr (requires { value.resize(0); }) value.resize(length(plain ? sizeof(typename T::value_type) : 1));
    if constexpr (plain) {
      const std::size_t n = value.size() * sizeof(typename T::value_type);
      if (n > 0) std::memcpy(value.data(), take(n).data(), n);
    } else {
      for (auto& item : value) get(item);
    }
  }
}

/// The bytes of a value, for fingerprints and files.
template <typename T>
std::string packed(const T& value) {
  std::string out;
  pack(out, value);
  return out;
}

/// A file of one value, written in one step, behind `layout`: the name and version of what its bytes are ("block 9").
/// Exact: read_packed gives every bit back. Throws Error where the disk refuses.
template <typename T>
void write_packed(const std::filesystem::path& path, const std::string& layout, const T& value) {
  std::string bytes;
  pack(bytes, layout);
  pack(bytes, value);
  write_file(path, bytes);
}

/// Whether a file has that layout; false where there is none. Cost: opens it and reads some bytes.
bool has_layout(const std::filesystem::path& path, const std::string& layout);

/// Reads such a file. Throws Error where it is missing, damaged, or of another layout, each said.
template <typename T>
T read_packed(const std::filesystem::path& path, const std::string& layout) {
  const std::string bytes = read_file(path);
  T out{};
  try {
    Unpacker reader(bytes);
    std::string found;
    reader.get(found);
    if (found != layout) throw Error("it holds '{}', not '{}'", found, layout);
    reader.get(out);
    if (!reader.at_end()) throw Error("it goes on behind its end");
  } catch (const Error& reason) {
    throw Error("{}: is damaged or of another version of mesograph ({}); delete it, it can be made again",
                path.string(), reason.what());
  }
  return out;
}

}  // namespace mesograph
