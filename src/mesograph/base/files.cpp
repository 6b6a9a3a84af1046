#include <fcntl.h>
#include <fnmatch.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <numeric>
#include <vector>

namespace mesograph {

namespace fs = std::filesystem;

std::string read_file(const fs::path& path) {
  if (fs::is_directory(path)) throw Error("{}: is a folder; name a file", path.string());
  std::ifstream in(path, std::ios::binary);
  if (!in) throw Error("{}: cannot be read ({}); check the path", path.string(), std::strerror(errno));
  return {std::istreambuf_iterator<char>(in), {}};
}

fs::path scratch_path(const fs::path& path) {
  fs::path scratch = path;
  scratch += ".part";
  return scratch;
}

void commit_file(const fs::path& scratch, const fs::path& path) {
  const int fd = ::open(scratch.c_str(), O_RDONLY);
  const bool flushed = fd >= 0 && ::fsync(fd) == 0;
  if (fd >= 0) ::close(fd);
  std::error_code error;
  if (flushed) fs::rename(scratch, path, error);
  if (!flushed || error) {
    fs::remove(scratch, error);
    throw Error("{}: cannot be written; check space and permissions", path.string());
  }
}

void write_file(const fs::path& path, std::string_view content) {
  std::error_code ignored;
  if (path.has_parent_path()) fs::create_directories(path.parent_path(), ignored);
  const fs::path scratch = scratch_path(path);
  {
    std::ofstream out(scratch, std::ios::binary | std::ios::trunc);
    out.write(content.data(), static_cast<std::streamsize>(content.size()));
    out.flush();
    if (!out) {
      const std::string reason = std::strerror(errno);
      fs::remove(scratch, ignored);
      throw Error("{}: cannot be written ({}); check space and permissions", path.string(), reason);
    }
  }
  commit_file(scratch, path);
}

namespace {
std::string hex(const XXH128_hash_t& hash) { return fmt::format("{:016x}{:016x}", hash.high64, hash.low64); }
}  // namespace

std::string hash_bytes(std::string_view bytes) { return hex(XXH3_128bits(bytes.data(), bytes.size())); }

std::string hash_file(const fs::path& path) { return hash_bytes(read_file(path)); }

std::uint64_t seed_from(std::string_view name) { return XXH3_64bits(name.data(), name.size()); }

bool glob_match(const std::string& pattern, const std::string& text) {
  return fnmatch(pattern.c_str(), text.c_str(), 0) == 0;
}

namespace {

std::size_t edit_distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), 0);
  for (std::size_t i = 0; i < a.size(); ++i) {
    std::size_t diagonal = row[0];
    row[0] = i + 1;
    for (std::size_t j = 0; j < b.size(); ++j) {
      const std::size_t replaced = diagonal + (a[i] == b[j] ? 0 : 1);
      diagonal = row[j + 1];
      row[j + 1] = std::min({replaced, row[j] + 1, diagonal + 1});
    }
  }
  return row.back();
}

}  // namespace

std::string nearest_word(std::string_view word, std::span<const std::string> known) {
  std::string best;
  std::size_t least = std::max<std::size_t>(3, word.size() / 2);
  for (const std::string& candidate : known) {
    const std::size_t distance = edit_distance(word, candidate);
    if (distance < least) {
      least = distance;
      best = candidate;
    }
  }
  return best;
}

}  // namespace mesograph
