#include <fcntl.h>
#include <fnmatch.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mutex>
#include <numeric>
#include <set>
#include <vector>

namespace mesograph {

namespace fs = std::filesystem;

std::string read_file(const fs::path& path) {
  if (fs::is_directory(path)) throw Error("{}: is a folder; name a file", path.string());
  std::ifstream in(path, std::ios::binary);
  if (!in) throw Error("{}: cannot be read ({}); check the path", path.string(), std::strerror(errno));
  return {std::istreambuf_iterator<char>(in), {}};
}

namespace {

/// What is being prepared, for the case that the program must end at once. Of the process, as its end is.
struct Scratch {
  std::mutex mutex;
  std::set<std::string> paths;
};
Scratch& scratch_now() {
  static Scratch all;
  return all;
}

}  // namespace

fs::path scratch_path(const fs::path& path) {
  fs::path scratch = path;
  scratch += ".part";
  const std::lock_guard lock(scratch_now().mutex);
  scratch_now().paths.insert(scratch.string());
  return scratch;
}

void drop_scratch(const fs::path& scratch) noexcept {
  std::error_code ignored;
  fs::remove(scratch, ignored);
  const std::lock_guard lock(scratch_now().mutex);
  scratch_now().paths.erase(scratch.string());
}

void drop_all_scratch() noexcept {
  scratch_now().mutex.lock();  // for good: the process ends
  std::error_code ignored;
  for (const std::string& path : scratch_now().paths) fs::remove(path, ignored);
}

int open_nameless(const fs::path& beside) {
  std::error_code ignored;
  fs::create_directories(beside, ignored);
  std::string name = (beside / ".mesograph-XXXXXX").string();
  const int fd = ::mkostemp(name.data(), O_CLOEXEC);
  if (fd < 0)
    throw Error("{}: cannot be written ({}); check space and permissions", beside.string(), std::strerror(errno));
  ::unlink(name.c_str());
  return fd;
}

void commit_file(const fs::path& scratch, const fs::path& path) {
  const int fd = ::open(scratch.c_str(), O_RDONLY);
  const bool flushed = fd >= 0 && ::fsync(fd) == 0;
  if (fd >= 0) ::close(fd);
  std::error_code error;
  if (flushed) fs::rename(scratch, path, error);
  drop_scratch(scratch);  // gone by its new name, or not wanted
  if (!flushed || error) throw Error("{}: cannot be written; check space and permissions", path.string());
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
      out.close();
      drop_scratch(scratch);
      throw Error("{}: cannot be written ({}); check space and permissions", path.string(), reason);
    }
  }
  commit_file(scratch, path);
}

namespace {
std::string hex(const XXH128_hash_t& hash) { return fmt::format("{:016x}{:016x}", hash.high64, hash.low64); }
}  // namespace

void require_space(const fs::path& folder, double bytes, const std::string& what) {
  fs::path there = fs::absolute(folder);
  std::error_code error;
  while (there.has_parent_path() && there != there.parent_path() && !fs::exists(there, error))
    there = there.parent_path();
  const fs::space_info space = fs::space(there, error);
  if (error || static_cast<double>(space.available) >= bytes) return;
  throw Error("{}: has {:.1f} GB left, {} needs about {:.1f} GB; make room, or name another folder", there.string(),
              static_cast<double>(space.available) / 1e9, what, bytes / 1e9);
}

std::string hash_bytes(std::string_view bytes) { return hex(XXH3_128bits(bytes.data(), bytes.size())); }

std::string hash_file(const fs::path& path) {
  std::error_code ignored;
  // A pipe would be waited for without end.
  if (fs::exists(path, ignored) && !fs::is_regular_file(path, ignored))
    throw Error("{}: is no file; name a file", path.string());
  std::ifstream in(path, std::ios::binary);
  if (!in) throw Error("{}: cannot be read ({}); check the path", path.string(), std::strerror(errno));
  const std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state(XXH3_createState(), &XXH3_freeState);
  XXH3_128bits_reset(state.get());
  std::vector<char> piece(1 << 20);  // a megabyte: reading, not calling, takes the time
  while (in.read(piece.data(), static_cast<std::streamsize>(piece.size())) || in.gcount() > 0)
    XXH3_128bits_update(state.get(), piece.data(), static_cast<std::size_t>(in.gcount()));
  return hex(XXH3_128bits_digest(state.get()));
}

bool is_utf8(std::string_view text) {
  for (std::size_t i = 0; i < text.size();) {
    const auto byte = [&](std::size_t k) { return static_cast<unsigned char>(text[k]); };
    const unsigned char c = byte(i);
    const std::size_t more = c < 0x80 ? 0 : c >= 0xC2 && c < 0xE0 ? 1 : c >= 0xE0 && c < 0xF0 ? 2 : 3;
    if ((c >= 0x80 && c < 0xC2) || c > 0xF4 || i + more >= text.size()) return false;
    for (std::size_t k = 1; k <= more; ++k)
      if ((byte(i + k) & 0xC0) != 0x80) return false;
    // Overlong forms, surrogates, and what lies beyond U+10FFFF (RFC 3629, section 4).
    if ((c == 0xE0 && byte(i + 1) < 0xA0) || (c == 0xED && byte(i + 1) > 0x9F) || (c == 0xF0 && byte(i + 1) < 0x90) ||
        (c == 0xF4 && byte(i + 1) > 0x8F))
      return false;
    i += 1 + more;
  }
  return true;
}

std::string to_utf8(std::string_view text) {
  if (is_utf8(text)) return std::string(text);
  std::string out;
  for (const char ch : text) {
    const auto c = static_cast<unsigned char>(ch);
    if (c < 0x80) {
      out += ch;
    } else {
      out += static_cast<char>(0xC0 | (c >> 6));
      out += static_cast<char>(0x80 | (c & 0x3F));
    }
  }
  return out;
}

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
  std::size_t least = std::max<std::size_t>(3, word.size() / 2);  // three slips of the finger, or half of a long word
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
