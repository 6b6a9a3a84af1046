#pragma once

#include <mesograph/cloud/laz_points.hpp>
#include <optional>

namespace mesograph::cloud {

/// Codes records of formats 0 to 3 point by point, all of a chunk with one coder: places, attributes, GPS time,
/// colours, extra bytes. `Coder`: RangeEncoder or RangeDecoder; the law is written once for both. Exact. Cost: some
/// twelve symbols a point. Source: Isenburg (2013) and the open specification of compressed LAS, items of version 2.
template <typename Coder>
class PointwiseCoder {
 public:
  /// `first`: the chunk's first record, which stands as it is. `format`: 0 to 3.
  PointwiseCoder(const char* first, int format, std::size_t length);
  /// Of an encoder reads a record, of a decoder writes it.
  void code(Coder& coder, char* record);

 private:
  static constexpr std::size_t fields = 20;  ///< bytes of a record before times, colours and extra bytes
  bool times_, colours_;
  std::size_t extra_at_;
  std::array<char, fields> last_{};
  std::array<std::uint16_t, 16> intensity_{};  ///< the last of each kind of return
  std::array<std::int32_t, 8> height_{};       ///< of each level
  SymbolModel changed_ = SymbolModel(64);
  std::array<SymbolModel, 256> bits_, class_, user_;
  std::array<SymbolModel, 2> angle_;
  IntegerModel intensity_model_ = IntegerModel(16, 4), source_model_ = IntegerModel(16, 1);
  PlaceModels place_ = PlaceModels(16);
  std::optional<LazTimeCoder<Coder>> time_;
  std::optional<LazColourCoder<Coder>> colour_;
  std::vector<LazByteCoder<Coder>> bytes_;

  void code_fields(Coder& coder, char* record);
  void code_attributes(Coder& coder, std::uint32_t what, std::size_t kind, char* record);
};

extern template class PointwiseCoder<RangeEncoder>;
extern template class PointwiseCoder<RangeDecoder>;

}  // namespace mesograph::cloud
