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

/// The name under which a writer prepares `path`; commit_file renames it. For writers that need a path of their own.
std::filesystem::path scratch_path(const std::filesystem::path& path);
void commit_file(const std::filesystem::path& scratch, const std::filesystem::path& path);

/// 128-bit content hash (XXH3) as 32 hexadecimal digits: tells files and inputs apart, no protection against malice.
std::string hash_bytes(std::string_view bytes);
std::string hash_file(const std::filesystem::path& path);

/// 64-bit seed from the name of a work item, so that its random choices depend on nothing else.
std::uint64_t seed_from(std::string_view name);

/// Patterns of the shell (POSIX fnmatch): "*" any run of characters, "?" one, "[12]" one of these; the whole text has
/// to match.
bool glob_match(const std::string& pattern, const std::string& text);

/// The member of `known` that is nearest to `word` by edit distance; empty where none comes near.
std::string nearest_word(std::string_view word, std::span<const std::string> known);

}  // namespace mesograph
