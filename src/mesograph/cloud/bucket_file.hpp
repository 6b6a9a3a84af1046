#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <string>
#include <utility>
#include <vector>

namespace mesograph::cloud {

/// A file without a name, gone with the process.
class NamelessFile {
 public:
  /// `in_memory`: no file at all; nothing is ever put into it then.
  NamelessFile(std::filesystem::path folder, bool in_memory);
  ~NamelessFile();
  NamelessFile(const NamelessFile&) = delete;
  NamelessFile& operator=(const NamelessFile&) = delete;

  bool on_disk() const { return file_ >= 0; }
  /// Appends; returns where. Throws Error where the disk refuses.
  std::uint64_t put(const std::string& bytes);
  /// May be called by several threads. Throws Error where they cannot be read back.
  void get(char* bytes, std::size_t size, std::uint64_t at) const;

 private:
  std::filesystem::path folder_;
  int file_;
  std::uint64_t end_ = 0;
};

/// Bytes by buckets, in a file without a name (gone with the process) but for the last few of each: what waits there
/// needs no memory, and comes back in long pieces. Exact.
template <typename Key>
class BucketFile {
 public:
  BucketFile(const std::filesystem::path& folder, bool in_memory) : file_(folder, in_memory) {}

  void add(const Key& key, const char* bytes, std::size_t size) {
    Bucket& bucket = buckets_[key];
    bucket.waiting.append(bytes, size);
    constexpr std::size_t most = 160 * 1024;
    if (!file_.on_disk() || bucket.waiting.size() < most) return;
    bucket.written.emplace_back(file_.put(bucket.waiting), bucket.waiting.size());
    bucket.waiting.clear();
  }
  std::vector<Key> keys() const {
    std::vector<Key> out;
    for (const auto& [key, bucket] : buckets_) out.push_back(key);
    return out;
  }
  /// In the order in which they were added. May be called by several threads once all are.
  std::string bytes(const Key& key) const {
    const auto found = buckets_.find(key);
    if (found == buckets_.end()) return {};
    std::string out;
    for (const auto& [at, size] : found->second.written) {
      out.resize(out.size() + size);
      file_.get(out.data() + out.size() - size, size, at);
    }
    return out + found->second.waiting;
  }

 private:
  struct Bucket {
    std::vector<std::pair<std::uint64_t, std::size_t>> written;  // where in the file, how many bytes
    std::string waiting;
  };
  NamelessFile file_;
  std::map<Key, Bucket> buckets_;
};

}  // namespace mesograph::cloud
