#pragma once

#include <cstdint>
#include <filesystem>
#include <span>
#include <string>
#include <string_view>

namespace mesograph {

/// Whole content of a file. Throws Error where it is missing or unreadable.
std::string read_file(const std::filesystem::path& path);

/// Replaces `path` by `content` in one step (written beside it, flushed, renamed), making missing folders. After an
/// error, or a kill at any moment, the old content still stands.
void write_file(const std::filesystem::path& path, std::string_view content);

/// The name under which a writer prepares `path`; commit_file renames it, drop_scratch removes it. For writers that
/// need a path of their own.
std::filesystem::path scratch_path(const std::filesystem::path& path);
void commit_file(const std::filesystem::path& scratch, const std::filesystem::path& path);
void drop_scratch(const std::filesystem::path& scratch) noexcept;

/// Removes what all writers of this process are preparing, and lets none begin again: for a program that must end at
/// once. May be called from any thread.
void drop_all_scratch() noexcept;

/// A file without a name, open for reading and writing in the folder `beside`, which the system takes back when it is
/// closed, whatever happens to the process. Throws Error where it cannot be made. Returns a descriptor.
int open_nameless(const std::filesystem::path& beside);

/// Throws Error where the disk of a folder, which need not exist yet, has fewer bytes left than `what` needs. Of a
/// disk that does not say what it has left nothing is known, and nothing refused.
void require_space(const std::filesystem::path& folder, double bytes, const std::string& what);

/// 128-bit content hash (XXH3) as 32 hexadecimal digits: tells files and inputs apart, no protection against malice.
/// Cost: one reading, in pieces. hash_file throws Error where the file is missing, unreadable or no regular file.
std::string hash_bytes(std::string_view bytes);
std::string hash_file(const std::filesystem::path& path);

/// Whether a text is well-formed UTF-8, as all tables and JSON must be.
bool is_utf8(std::string_view text);
/// The text where it is UTF-8; else its bytes taken as Latin-1: what cameras and old programs write.
std::string to_utf8(std::string_view text);

/// 64-bit seed from the name of a work item, so that its random choices depend on nothing else.
std::uint64_t seed_from(std::string_view name);

/// Patterns of the shell (POSIX fnmatch): "*" any run of characters, "?" one, "[12]" one of these; the whole text has
/// to match.
bool glob_match(const std::string& pattern, const std::string& text);

/// The member of `known` that is nearest to `word` by edit distance; empty where none comes near.
std::string nearest_word(std::string_view word, std::span<const std::string> known);

}  // namespace mesograph
