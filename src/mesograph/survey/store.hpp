#pragma once

#include <filesystem>
#include <memory>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/pack.hpp>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace mesograph::survey {

/// What a command wants of a survey: to change it, which one process does at a time, or to look at it, which any number
/// may do meanwhile.
enum class Access { change, look };

/// What follows from photos, survey.toml and inputs/: a small SQLite register and one file per heavy item. Safe to
/// delete as a whole. One process changes it at a time: the lock dies with its process. Others look at the last state
/// that was complete.
/// Cost: a look at a stage is one query; finishing one reads its outputs once for their hashes.
class Store {
 public:
  /// Opens `folder`, made where it is missing and may be changed. Throws Error where another process holds it, a newer
  /// program wrote it, it is damaged, or the disk is full: each said as what it is.
  explicit Store(std::filesystem::path folder, Access access = Access::change);
  ~Store();
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;

  /// A finished stage: what it was made from, how long it took, s, and its result (base/pack).
  struct Stage {
    std::string fingerprint;
    double seconds = nan;
    std::string bytes;
    /// The result. Throws Error where it is not of that type.
    template <typename Result>
    Result result() const;
  };
  std::optional<Stage> stage(const std::string& name) const;
  /// Records a stage as the last step of finishing it: its item files must stand already, and the files that people
  /// take away, `outputs`, whose content is remembered. Its time counts from when the store was opened or the last
  /// stage was finished.
  template <typename Result>
  void finish(const std::string& name, const std::string& fingerprint, const Result& result,
              const std::vector<std::filesystem::path>& outputs = {}) {
    record(name, fingerprint, packed(result), outputs);
  }
  /// The same stage with its result as it stands in another store.
  void adopt(const std::string& name, const Stage& stage) { record(name, stage.fingerprint, stage.bytes, {}); }

  /// Files that a stage wrote for people to take away.
  std::vector<std::filesystem::path> outputs(const std::string& name) const;
  /// What became of them, in words, of the first that is gone or is no longer as it was written ("results/cloud.las has
  /// been changed"); empty where all stand. Reads a file whose size is as it was and whose time is not.
  std::string changed_output(const std::string& name) const;
  /// The stage, where it was made from this and all that it wrote still stands; nothing otherwise.
  std::optional<Stage> current(const std::string& name, const std::string& fingerprint) const;

  /// File of an item of `kind`; the fingerprint is part of its name, so that an item out of date is never taken. A
  /// slash in `name` ("sortie/name") becomes '@'; names too long for a file are cut, and told apart by their hash.
  std::filesystem::path item(const std::string& kind, const std::string& name, const std::string& fingerprint) const;
  /// Removes the files of a kind that are not among `keep`.
  void sweep(const std::string& kind, const std::set<std::filesystem::path>& keep) const;

  const std::filesystem::path& folder() const { return folder_; }

 private:
  struct Register;
  std::filesystem::path folder_;
  int lock_ = -1;
  std::unique_ptr<Register> register_;
  std::filesystem::path site() const;
  void record(const std::string& name, const std::string& fingerprint, const std::string& bytes,
              const std::vector<std::filesystem::path>& outputs);
};

template <typename Result>
Result Store::Stage::result() const {
  Result out{};
  Unpacker(bytes).get(out);
  return out;
}

/// Content hash of a file, empty where there is none: what a fingerprint says of an optional input.
std::string hash_or_empty(const std::filesystem::path& path);

/// Size and time of last change of a file: while both are as they were, its content is taken to be.
struct FileMark {
  std::int64_t bytes = -1, time = 0;  ///< -1: no file; nanoseconds
  bool operator==(const FileMark&) const = default;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("bytes", s.bytes), visit("time", s.time);
  }
};
FileMark mark_of(const std::filesystem::path& path);

/// A failure of the register, in words that say whose fault it is: a full or write-protected disk is no damage, and
/// nothing is to be deleted because of it. `code`: primary result code of SQLite.
std::string words_of_register_failure(const std::filesystem::path& file, int code, const std::string& what);

}  // namespace mesograph::survey
