#pragma once

#include <cstdint>
#include <fstream>
#include <mesograph/cloud/las.hpp>
#include <string>
#include <string_view>
#include <vector>

namespace mesograph::cloud {

/// Compressed LAS: point data record formats 6 to 8 in layers, 0 to 3 point by point, both in chunks. Records come out
/// as they went in, to the bit. Source: the open specification of compressed LAS (LAZ 1.4, layered and chunked, items
/// of version 3, of version 4 when reading; version 2 for the older formats); Isenburg (2013), LASzip: lossless
/// compression of LiDAR data, PE&RS 79.

/// What the compressor's variable length record says.
struct LazLayout {
  static constexpr std::uint32_t differ = 0xFFFFFFFFu;
  std::uint32_t chunk = 50'000;  ///< points of each; `differ`: the table of chunks says how many
  int format = 7;
  std::size_t record_length = 36;
  bool mended = false;        ///< items of version 4, see LazChannels
  std::size_t extra() const;  ///< bytes of a record beyond its format's

  /// That record, head and all, as it stands in a file.
  std::string record() const;
};

/// Whether records of a format can be compressed.
bool can_be_compressed(int format);

/// The records of one chunk, one after another, and back. `layout`: format and length of records. Cost: some 0.3
/// microseconds a point; chunks know nothing of each other, so threads may work at several.
/// Throws Error, without a file's name, where the bytes cannot be what a chunk of so many points was.
std::string compressed(std::string_view records, const LazLayout& layout);
std::string decompressed(std::string_view chunk, std::size_t points, const LazLayout& layout);

/// Where a file's chunks are.
struct LazChunk {
  std::uint64_t at = 0, bytes = 0, points = 0;
};

/// The table of chunks as it stands after them; with their points, where these differ.
std::string chunk_table(const std::vector<LazChunk>& chunks, const LazLayout& layout);

/// A compressed file's layout, by its record, and its chunks. Throws Error, which names the file, where it is damaged,
/// or compressed in another way (without chunks, waves).
LazLayout layout_of(const LasHeader& header, const std::string& where);
std::vector<LazChunk> chunks_of(std::ifstream& file, std::uint64_t size, const LasHeader& header,
                                const LazLayout& layout, const std::string& where);

/// Puts what a header says of its points (counts, returns, bounds by steps, where extended records begin) into its
/// head.
void put_counts(LasHeader& header, const Eigen::AlignedBox3i& box, std::uint64_t extended_at);
/// The number of a point's return, from 1.
int return_number(const LasHeader& header, const char* record);

/// Whether a variable length record is the compressor's.
bool is_compressors(const LasRecord& record);

}  // namespace mesograph::cloud
