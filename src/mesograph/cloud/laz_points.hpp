#pragma once

#include <array>
#include <memory>
#include <mesograph/cloud/laz_common.hpp>
#include <mesograph/cloud/laz_times.hpp>
#include <vector>

namespace mesograph::cloud {

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
  bool stepped() const { return stepped_; }  ///< into the channel, with the last point

 private:
  struct Context {
    LazFields last;
    std::array<SymbolModel, 8> what_changed;
    SymbolModel channel, number_same_time;
    std::array<SymbolModel, 16> returns, number;
    PlaceModels place;  ///< twelve kinds of returns
    std::array<std::int32_t, 8> z{};
    IntegerModel intensity_model, angle_model, source_model;
    std::array<SymbolModel, 64> kind, flags, user;
    std::array<std::uint16_t, 8> intensity{};
    LazTimeCoder<Coder> times;
    explicit Context(const LazFields& first);
  };
  std::array<std::unique_ptr<Context>, 4> contexts_;
  std::size_t current_;
  bool stepped_ = false;
  std::array<Coder, layers>& coders_;
  std::array<bool, layers> there_;

  std::uint32_t differences(const LazFields& p) const;
  void code_number(Context& c, const LazFields& last, std::uint32_t what, LazFields& p);
  void code_place(Context& c, const LazFields& last, bool moved_on, LazFields& p);
  void code_rest(Context& c, const LazFields& last, bool moved_on, bool angle_changed, bool source_changed,
                 LazFields& p);
  std::uint32_t symbol(Layer layer, SymbolModel& model, std::uint32_t symbols, std::uint32_t s) {
    if (model.empty()) model = SymbolModel(symbols);
    return coders_[layer].symbol(model, s);
  }
};

/// What colours and extra bytes are foretold from, for each scanner channel. Items of version 3 take every point that
/// stays in its channel for one of channel 0, and at the step into a channel that was there before stay with the last
/// value of the one they come from: not what was meant, but what is written so must be read so. Items of version 4
/// (`mended`) keep to channels.
template <typename Value, typename Models>
class LazChannels {
 public:
  LazChannels(const Value& first, std::size_t channel, bool mended) : current_(channel), mended_(mended) {
    own_[channel] = std::make_unique<Own>(Own{first, {}});
    here_ = own_[channel].get();
  }
  /// Models of the channel, and the value to foretell from, which becomes the new one. `stepped`: whether the point
  /// before is of another channel.
  std::pair<Models&, Value&> at(std::size_t channel, bool stepped) {
    if (!stepped && !mended_) channel = 0;
    if (channel == current_) return {here_->models, here_->last};
    Own* last = own_[current_].get();
    current_ = channel;
    const bool first = !own_[channel];
    if (first) own_[channel] = std::make_unique<Own>(Own{last->last, {}});
    if (first || mended_) last = own_[channel].get();
    here_ = own_[channel].get();
    return {here_->models, last->last};
  }

 private:
  struct Own {
    Value last;
    Models models;
  };
  std::array<std::unique_ptr<Own>, 4> own_;
  Own* here_ = nullptr;  ///< that of the current channel
  std::size_t current_;
  bool mended_;
};

/// Codes 16-bit colours; the third channel from what red and green did.
template <typename Coder>
class LazColourCoder {
 public:
  using Colour = std::array<std::uint16_t, 3>;
  LazColourCoder(const Colour& first, std::size_t channel, bool mended) : channels_(first, channel, mended) {}
  void code(Coder& coder, Colour& c, std::size_t channel, bool stepped);

 private:
  struct Models {
    SymbolModel which = SymbolModel(128);
    std::array<SymbolModel, 6> parts;
  };
  LazChannels<Colour, Models> channels_;
};

/// Codes near infrared: two bytes, each where it changes.
template <typename Coder>
class LazInfraredCoder {
 public:
  LazInfraredCoder(std::uint16_t first, std::size_t channel, bool mended) : channels_(first, channel, mended) {}
  void code(Coder& coder, std::uint16_t& value, std::size_t channel, bool stepped);

 private:
  struct Models {
    SymbolModel which = SymbolModel(4);
    std::array<SymbolModel, 2> parts;
  };
  LazChannels<std::uint16_t, Models> channels_;
};

/// Codes extra bytes, each in a layer, by what they differ by from the last.
template <typename Coder>
class LazByteCoder {
 public:
  LazByteCoder(std::uint8_t first, std::size_t channel, bool mended) : channels_(first, channel, mended) {}
  void code(Coder& coder, std::uint8_t& value, std::size_t channel, bool stepped);

 private:
  struct Models {
    SymbolModel differences = SymbolModel(256);
  };
  LazChannels<std::uint8_t, Models> channels_;
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
