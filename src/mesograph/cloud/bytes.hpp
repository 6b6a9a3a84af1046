#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <fstream>
#include <string>

namespace mesograph::cloud {

static_assert(std::endian::native == std::endian::little, "a big-endian host needs swapping here");

/// Little-endian bytes put one after another, at the offsets that the clauses of the standard give.
/// Source: ASPRS, LAS Specification 1.4 R15 (2019), section 2: all fields are little-endian.
class Bytes {
 public:
  template <typename T>
  void put(T value) {
    bytes_.append(reinterpret_cast<const char*>(&value), sizeof(T));
  }
  void text(const std::string& value, std::size_t size) {
    std::string field = value.substr(0, size);
    field.resize(size, '\0');
    bytes_ += field;
  }
  std::size_t size() const { return bytes_.size(); }
  const std::string& str() const { return bytes_; }

 private:
  std::string bytes_;
};

template <typename T>
T get(const char* at) {
  T value;
  std::memcpy(&value, at, sizeof(T));
  return value;
}

template <typename T>
void put_at(std::string& bytes, std::size_t at, T value) {
  std::memcpy(bytes.data() + at, &value, sizeof(T));
}

/// Bytes of a file from a place on; fewer where it ends before.
inline std::string bytes_at(std::ifstream& file, std::uint64_t at, std::size_t n) {
  std::string out(n, '\0');
  file.clear();
  file.seekg(static_cast<std::streamoff>(at));
  file.read(out.data(), static_cast<std::streamsize>(n));
  out.resize(static_cast<std::size_t>(std::max<std::streamsize>(0, file.gcount())));
  return out;
}

/// Least record lengths of point data record formats 0 to 10 (R15, tables 7 to 17).
inline constexpr std::array<std::size_t, 11> least_length = {20, 28, 26, 34, 57, 63, 30, 36, 38, 59, 67};

/// Text of a field that ends with a zero or with the field.
inline std::string text_at(const char* at, std::size_t size) { return {at, strnlen(at, size)}; }

}  // namespace mesograph::cloud
