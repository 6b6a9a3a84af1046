#pragma once

#include <array>
#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/range_coder.hpp>
#include <vector>

namespace mesograph::cloud {

/// What is thrown where compressed bytes cannot be what a writer made; whoever knows the file adds its name.
inline Error damaged_points() { return Error("its compressed points are damaged"); }

/// What a point record of formats 6 to 8 holds beside colours and extra bytes (R15, table 13).
struct LazFields {
  std::int32_t x = 0, y = 0, z = 0;
  std::uint16_t intensity = 0, source = 0;
  std::int16_t angle = 0;
  std::uint8_t number = 0, returns = 0, channel = 0, flags = 0, kind = 0, user = 0;
  std::int64_t time = 0;  ///< the bits of the GPS time
  bool time_changed = false;

  static constexpr std::size_t size = 30;
  static LazFields of(const char* record);
  void put(char* record) const;
};

/// Codes the fields of one point after another, each kind of them with a coder of its own, so that who wants one need
/// not read all, and what never changes takes no bytes. `there`: which layers are coded; what others hold stays as it
/// was. `Coder`: RangeEncoder or RangeDecoder. The law is written once for both. Exact. Cost: some twenty symbols a
/// point. Source: Isenburg (2013) and the open specification of compressed LAS 1.4, layered items of version 3.
template <typename Coder>
class LazFieldsCoder {
 public:
  static constexpr std::size_t layers = 9;
  enum Layer { plan, height, kinds, flags, intensity, angle, user, source, time };

  LazFieldsCoder(const LazFields& first, std::array<Coder, layers>& coders, const std::array<bool, layers>& there);
  void code(LazFields& p);
  std::size_t channel() const { return current_; }

 private:
  /// The median of the last five, roughly: a new one pushes out the one on its side.
  struct Median {
    std::array<std::int32_t, 5> values{};
    bool high = true;
    void add(std::int32_t v);
  };
  struct Context {
    LazFields last;
    std::array<SymbolModel, 8> what_changed;
    SymbolModel channel, number_same_time;
    std::array<SymbolModel, 16> returns, number;
    std::array<Median, 12> dx, dy;
    std::array<std::int32_t, 8> z{};
    IntegerModel x_model, y_model, z_model, intensity_model, angle_model, source_model, time_model;
    std::array<SymbolModel, 64> kind, flags, user;
    std::array<std::uint16_t, 8> intensity{};
    SymbolModel time_multiple, time_still;
    std::array<std::int64_t, 4> times{};
    std::array<std::int32_t, 4> time_steps{}, extremes{};
    std::size_t time_at = 0, time_next = 0;
    explicit Context(const LazFields& first);
  };
  std::array<std::unique_ptr<Context>, 4> contexts_;
  std::size_t current_;
  std::array<Coder, layers>& coders_;
  std::array<bool, layers> there_;

  std::uint32_t differences(const LazFields& p) const;
  void code_number(Context& c, const LazFields& last, std::uint32_t what, LazFields& p);
  void code_place(Context& c, const LazFields& last, bool moved_on, LazFields& p);
  void code_rest(Context& c, const LazFields& last, bool moved_on, bool angle_changed, bool source_changed,
                 LazFields& p);
  void code_time(Context& c, LazFields& p, bool again = false);
  void code_far_time(Context& c, SymbolModel& model, std::uint32_t first_symbol, std::uint32_t symbol, LazFields& p);
  std::uint32_t symbol(Layer layer, SymbolModel& model, std::uint32_t symbols, std::uint32_t s) {
    if (model.empty()) model = SymbolModel(symbols);
    return coders_[layer].symbol(model, s);
  }
};

/// Codes 16-bit colours; the third channel from what red and green did.
template <typename Coder>
class LazColourCoder {
 public:
  using Colour = std::array<std::uint16_t, 3>;
  explicit LazColourCoder(const Colour& first) : last_(first) {}
  void code(Coder& coder, Colour& c);

 private:
  Colour last_;
  SymbolModel which_ = SymbolModel(128);
  std::array<SymbolModel, 6> parts_;
};

/// Codes near infrared: two bytes, each where it changes.
template <typename Coder>
class LazInfraredCoder {
 public:
  explicit LazInfraredCoder(std::uint16_t first) : last_(first) {}
  void code(Coder& coder, std::uint16_t& value);

 private:
  std::uint16_t last_;
  SymbolModel which_ = SymbolModel(4);
  std::array<SymbolModel, 2> parts_;
};

/// Codes extra bytes, each in a layer, by what they differ by from the last.
template <typename Coder>
class LazByteCoder {
 public:
  explicit LazByteCoder(std::uint8_t first) : last_(first) {}
  void code(Coder& coder, std::uint8_t& value);

 private:
  std::uint8_t last_;
  SymbolModel model_ = SymbolModel(256);
};

extern template class LazFieldsCoder<RangeEncoder>;
extern template class LazFieldsCoder<RangeDecoder>;
extern template class LazColourCoder<RangeEncoder>;
extern template class LazColourCoder<RangeDecoder>;
extern template class LazByteCoder<RangeEncoder>;
extern template class LazByteCoder<RangeDecoder>;
extern template class LazInfraredCoder<RangeEncoder>;
extern template class LazInfraredCoder<RangeDecoder>;

}  // namespace mesograph::cloud
