#pragma once

#include <cmath>
#include <cstring>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <type_traits>
#include <vector>

namespace mesograph::survey {

/// What follows from photos, survey.toml and inputs/: a small SQLite register and one file per heavy item. Safe to
/// delete as a whole. One process at a time: the lock dies with its process.
class Store {
 public:
  /// Opens or makes `folder`. Throws Error where another process holds it or a newer program wrote it.
  explicit Store(std::filesystem::path folder);
  ~Store();
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;

  /// A finished stage: what it was made from, and what it had to say.
  struct Stage {
    std::string fingerprint;
    nlohmann::ordered_json summary;
  };
  std::optional<Stage> stage(const std::string& name) const;
  /// Records a stage as the last step of finishing it: its item files must stand already. Adds to the summary how long
  /// it took, since the store was opened or the last stage finished (`stage_seconds`).
  void finish(const std::string& name, const Stage& stage);

  /// File of an item of `kind`; the fingerprint is part of its name, so that an item out of date is never taken. A
  /// slash in `name` ("sortie/name") becomes '@'.
  std::filesystem::path item(const std::string& kind, const std::string& name, const std::string& fingerprint) const;
  /// Removes the files of a kind except those made from one of `keep` fingerprints.
  void sweep(const std::string& kind, const std::string& keep_fingerprint) const;

  const std::filesystem::path& folder() const { return folder_; }

 private:
  struct Register;
  std::filesystem::path folder_;
  int lock_ = -1;
  std::unique_ptr<Register> register_;
};

/// Binary file of a JSON value (MessagePack): written in one step, read back the same. Throws Error where it is
/// damaged.
void write_packed(const std::filesystem::path& path, const nlohmann::json& value);
nlohmann::json read_packed(const std::filesystem::path& path);

/// A number, null where it is not finite: unknown.
template <typename Json = nlohmann::ordered_json>
Json json_of(double value) {
  return std::isfinite(value) ? Json(value) : Json();
}

/// Plain values as the bytes they are, for packed files: every bit survives, NaN too.
template <typename T>
nlohmann::json bytes_of(const std::vector<T>& values) {
  static_assert(std::is_trivially_copyable_v<T>);
  const auto* first = reinterpret_cast<const std::uint8_t*>(values.data());
  return nlohmann::json::binary(std::vector<std::uint8_t>(first, first + values.size() * sizeof(T)));
}
template <typename T>
std::vector<T> values_of(const nlohmann::json& json) {
  const auto& bytes = json.get_binary();
  std::vector<T> out(bytes.size() / sizeof(T));
  std::memcpy(out.data(), bytes.data(), out.size() * sizeof(T));
  return out;
}

/// Content hash of a file, empty where there is none: what a fingerprint says of an optional input.
std::string hash_or_empty(const std::filesystem::path& path);

}  // namespace mesograph::survey
