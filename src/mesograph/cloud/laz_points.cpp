#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/laz_points.hpp>

namespace mesograph::cloud {

namespace {

/// Which returns of how many behave alike, six kinds: the specification's table, a row for each number of returns.
constexpr const char* kinds_of_returns[16] = {
    "0123453445555555", "1013333333333333", "2124444444433333", "3345444444444444",
    "4344544444444444", "5344454444444444", "3344445444444444", "4344444544444444",
    "4344444454444444", "5344444445444444", "5344444444544444", "5334444444455444",
    "5334444444455544", "5334444444445554", "5334444444444555", "5334444444444455"};

std::size_t kind_of(std::size_t returns, std::size_t number) {
  return static_cast<std::size_t>(kinds_of_returns[returns][number] - '0');
}

std::uint8_t low(std::uint16_t v) { return static_cast<std::uint8_t>(v & 255); }
std::uint8_t high(std::uint16_t v) { return static_cast<std::uint8_t>(v >> 8); }
std::uint16_t both(std::uint8_t low, std::uint8_t high) { return static_cast<std::uint16_t>(low | high << 8); }
std::uint8_t within_byte(int v) { return static_cast<std::uint8_t>(std::clamp(v, 0, 255)); }

}  // namespace

LazFields LazFields::of(const char* r) {
  LazFields p;
  p.x = get<std::int32_t>(r), p.y = get<std::int32_t>(r + 4), p.z = get<std::int32_t>(r + 8);
  p.intensity = get<std::uint16_t>(r + 12);
  const auto returns = get<std::uint8_t>(r + 14), bits = get<std::uint8_t>(r + 15);
  p.number = returns & 15, p.returns = returns >> 4;
  p.channel = (bits >> 4) & 3, p.flags = static_cast<std::uint8_t>((bits & 15) | (bits >> 6) << 4);
  p.kind = get<std::uint8_t>(r + 16), p.user = get<std::uint8_t>(r + 17);
  p.angle = get<std::int16_t>(r + 18), p.source = get<std::uint16_t>(r + 20);
  p.time = get<std::int64_t>(r + 22);
  return p;
}

void LazFields::put(char* r) const {
  const auto put_value = [&](std::size_t at, auto value) { std::memcpy(r + at, &value, sizeof value); };
  put_value(0, x), put_value(4, y), put_value(8, z), put_value(12, intensity);
  put_value(14, static_cast<std::uint8_t>(number | returns << 4));
  put_value(15, static_cast<std::uint8_t>((flags & 15) | channel << 4 | (flags >> 4) << 6));
  put_value(16, kind), put_value(17, user), put_value(18, angle), put_value(20, source), put_value(22, time);
}

template <typename Coder>
LazFieldsCoder<Coder>::Context::Context(const LazFields& first)
    : last(first),
      channel(3),
      number_same_time(13),
      place(12),
      intensity_model(16, 4),
      angle_model(16, 2),
      source_model(16, 1),
      times(first.time, false) {
  for (SymbolModel& m : what_changed) m = SymbolModel(128);
  z.fill(first.z), intensity.fill(first.intensity);
  last.time_changed = false;
}

template <typename Coder>
LazFieldsCoder<Coder>::LazFieldsCoder(const LazFields& first, std::array<Coder, layers>& coders,
                                      const std::array<bool, layers>& there)
    : current_(first.channel), coders_(coders), there_(there) {
  contexts_[current_] = std::make_unique<Context>(first);
}

/// What differs from the last point of its channel, as seven bits.
template <typename Coder>
std::uint32_t LazFieldsCoder<Coder>::differences(const LazFields& p) const {
  const LazFields& last = (contexts_[p.channel] ? contexts_[p.channel] : contexts_[current_])->last;
  const std::uint32_t number = p.number == last.number               ? 0
                               : p.number == (last.number + 1) % 16  ? 1
                               : p.number == (last.number + 15) % 16 ? 2
                                                                     : 3;
  const auto bit = [](bool set, int at) { return static_cast<std::uint32_t>(set) << at; };
  return number | bit(p.returns != last.returns, 2) | bit(p.angle != last.angle, 3) | bit(p.time != last.time, 4) |
         bit(p.source != last.source, 5) | bit(p.channel != current_, 6);
}

template <typename Coder>
void LazFieldsCoder<Coder>::code(LazFields& p) {
  Context* c = contexts_[current_].get();
  const std::size_t state = (c->last.number == 1 ? 1u : 0u) + (c->last.number >= c->last.returns ? 2u : 0u) +
                            (c->last.time_changed ? 4u : 0u);
  const std::uint32_t what = coders_[plan].symbol(c->what_changed[state], Coder::reading ? 0 : differences(p));
  stepped_ = what & 64;
  if (stepped_) {
    const std::uint32_t step =
        coders_[plan].symbol(c->channel, (p.channel + 3u - static_cast<std::uint32_t>(current_)) % 4);
    current_ = (current_ + step + 1) % 4;
    if (!contexts_[current_]) contexts_[current_] = std::make_unique<Context>(c->last);
    c = contexts_[current_].get();
  }
  p.channel = static_cast<std::uint8_t>(current_);
  const LazFields last = c->last;
  const bool moved_on = what & 16;
  code_number(*c, last, what, p);
  code_place(*c, last, moved_on, p);
  code_rest(*c, last, moved_on, what & 8, what & 32, p);
  if (Coder::reading) p.time = last.time;
  if (moved_on && there_[time]) p.time = c->times.code(coders_[time], p.time);
  c->last = p;
  c->last.time_changed = moved_on;
}

template <typename Coder>
void LazFieldsCoder<Coder>::code_number(Context& c, const LazFields& last, std::uint32_t what, LazFields& p) {
  const auto byte = [](std::uint32_t v) { return static_cast<std::uint8_t>(v); };
  p.returns = what & 4 ? byte(symbol(plan, c.returns[last.returns], 16, p.returns)) : last.returns;
  switch (what & 3) {
    case 0:
      p.number = last.number;
      break;
    case 1:
      p.number = byte((last.number + 1u) % 16);
      break;
    case 2:
      p.number = byte((last.number + 15u) % 16);
      break;
    default:
      if (what & 16) {
        p.number = byte(symbol(plan, c.number[last.number], 16, p.number));
      } else {  // two to fourteen further on
        const std::uint32_t step = coders_[plan].symbol(c.number_same_time, (p.number + 14u - last.number) % 16);
        p.number = byte((last.number + step + 2) % 16);
      }
  }
}

template <typename Coder>
void LazFieldsCoder<Coder>::code_place(Context& c, const LazFields& last, bool moved_on, LazFields& p) {
  const std::size_t single = p.returns == 1 ? 1 : 0, m = 2 * kind_of(p.returns, p.number) + (moved_on ? 1 : 0);
  c.place.code_plan(coders_[plan], m, single, last.x, last.y, p.x, p.y);
  std::int32_t& before = c.z[level_of(p.returns, p.number)];
  if (there_[height])
    before = p.z = c.place.code_height(coders_[height], single, before, p.z);
  else
    p.z = last.z;
}

template <typename Coder>
void LazFieldsCoder<Coder>::code_rest(Context& c, const LazFields& last, bool moved_on, bool angle_changed,
                                      bool source_changed, LazFields& p) {
  const std::size_t place = (p.number == 1 ? 2u : 0u) + (p.number >= p.returns ? 1u : 0u);
  const auto byte = [&](Layer layer, SymbolModel& model, std::uint32_t symbols, std::uint8_t before,
                        std::uint8_t& now) {
    now = there_[layer] ? static_cast<std::uint8_t>(symbol(layer, model, symbols, now)) : before;
  };
  byte(kinds, c.kind[((last.kind & 31u) << 1) + (place == 3 ? 1 : 0)], 256, last.kind, p.kind);
  byte(flags, c.flags[last.flags], 64, last.flags, p.flags);
  if (there_[intensity]) {
    std::uint16_t& before = c.intensity[2 * place + (moved_on ? 1 : 0)];
    before = p.intensity =
        static_cast<std::uint16_t>(c.intensity_model.code(coders_[intensity], before, p.intensity, place));
  } else {
    p.intensity = last.intensity;
  }
  if (Coder::reading) p.angle = last.angle, p.source = last.source;
  if (angle_changed && there_[angle])
    p.angle = static_cast<std::int16_t>(c.angle_model.code(coders_[angle], last.angle, p.angle, moved_on ? 1 : 0));
  byte(user, c.user[last.user / 4], 256, last.user, p.user);
  if (source_changed && there_[source])
    p.source = static_cast<std::uint16_t>(c.source_model.code(coders_[source], last.source, p.source, 0));
}

template <typename Coder>
void LazColourCoder<Coder>::code(Coder& coder, Colour& c, std::size_t channel, bool stepped) {
  auto [models, before] = channels_.at(channel, stepped);
  const Colour last = before;
  std::uint32_t which = 0;
  if (!Coder::reading) {
    for (std::size_t i = 0; i < 3; ++i)
      which |= (low(last[i]) != low(c[i]) ? 1u << (2 * i) : 0) | (high(last[i]) != high(c[i]) ? 2u << (2 * i) : 0);
    if (c[0] != c[1] || c[0] != c[2]) which |= 64;
  }
  which = coder.symbol(models.which, which);
  std::array<std::uint8_t, 2> red = {low(last[0]), high(last[0])}, green = red, blue = red;
  for (std::size_t half = 0; half < 2; ++half) {
    const auto part = [half](std::uint16_t v) { return half == 0 ? low(v) : high(v); };
    if (which & (1u << half)) red[half] = code_byte(coder, models.parts[half], part(last[0]), part(c[0]));
  }
  // Low bytes of green and blue come before the high ones.
  for (std::size_t half = 0; half < 2; ++half) {
    const auto part = [half](std::uint16_t v) { return half == 0 ? low(v) : high(v); };
    if (!(which & 64)) {
      green[half] = blue[half] = red[half];
      continue;
    }
    int step = red[half] - part(last[0]);
    green[half] = part(last[1]), blue[half] = part(last[2]);
    if (which & (4u << half))
      green[half] = code_byte(coder, models.parts[2 + half], within_byte(step + part(last[1])), part(c[1]));
    step = (step + green[half] - part(last[1])) / 2;
    if (which & (16u << half))
      blue[half] = code_byte(coder, models.parts[4 + half], within_byte(step + part(last[2])), part(c[2]));
  }
  before = c = {both(red[0], red[1]), both(green[0], green[1]), both(blue[0], blue[1])};
}

template <typename Coder>
void LazInfraredCoder<Coder>::code(Coder& coder, std::uint16_t& value, std::size_t channel, bool stepped) {
  auto [models, last] = channels_.at(channel, stepped);
  const std::uint32_t which =
      coder.symbol(models.which, (low(value) != low(last) ? 1u : 0u) | (high(value) != high(last) ? 2u : 0u));
  const std::uint8_t lower = which & 1 ? code_byte(coder, models.parts[0], low(last), low(value)) : low(last),
                     upper = which & 2 ? code_byte(coder, models.parts[1], high(last), high(value)) : high(last);
  last = value = both(lower, upper);
}

template <typename Coder>
void LazByteCoder<Coder>::code(Coder& coder, std::uint8_t& value, std::size_t channel, bool stepped) {
  auto [models, last] = channels_.at(channel, stepped);
  last = value = code_byte(coder, models.differences, last, value);
}

template class LazFieldsCoder<RangeEncoder>;
template class LazFieldsCoder<RangeDecoder>;
template class LazColourCoder<RangeEncoder>;
template class LazColourCoder<RangeDecoder>;
template class LazByteCoder<RangeEncoder>;
template class LazByteCoder<RangeDecoder>;
template class LazInfraredCoder<RangeEncoder>;
template class LazInfraredCoder<RangeDecoder>;

}  // namespace mesograph::cloud
