#include <fmt/format.h>

#include <cmath>
#include <mesograph/report/wrong.hpp>

namespace mesograph::report {

namespace {

constexpr std::size_t shown = 12;  // a screen's worth; what is said first may cause the rest

/// "1.02 m too high", "0.3 m too far east".
std::string words_of_off(double off, int axis) {
  static const char* const ways[3][2] = {
      {"too far west", "too far east"}, {"too far south", "too far north"}, {"too low", "too high"}};
  return fmt::format("{:.{}f} m {}", std::abs(off), std::abs(off) < 100 ? 2 : 0, ways[axis][off > 0]);
}

int axis_of(adjust::Component c) { return c == adjust::Component::east ? 0 : c == adjust::Component::north ? 1 : 2; }

}  // namespace

std::string words_of(const adjust::NamedBlock& named, const orient::Contradiction& c) {
  const std::string& id = named.block.surveyed[c.point].id;
  switch (c.what) {
    case orient::Contradiction::What::sighting:
      return std::isfinite(c.pixels)
                 ? fmt::format("{} in {} lies {:.0f} px from where its other photos put it", id,
                               named.images[c.station], c.pixels)
                 : fmt::format("{} in {} lies where its other photos cannot put it", id, named.images[c.station]);
    case orient::Contradiction::What::exchanged:
      return fmt::format("{} and {} look exchanged: each fits where the other was surveyed", id,
                         named.block.surveyed[c.other].id);
    case orient::Contradiction::What::place:
      break;
  }
  std::vector<std::string> off;
  for (int a = 0; a < 3; ++a)
    if (c.off[a] != 0) off.push_back(words_of_off(c.off[a], a));
  return fmt::format("{} is surveyed {}, beside the other points", id, fmt::join(off, ", "));
}

std::string words_of(const adjust::NamedBlock& named, const adjust::Suspect& s) {
  const std::string where = s.station < 0 ? "" : " in " + named.images[s.station];
  const std::string w = fmt::format("(w = {:.1f})", std::abs(s.w));
  switch (s.kind) {
    case adjust::Observed::control:
      return fmt::format("{} is surveyed {} {}", s.id, words_of_off(s.size, axis_of(s.component)), w);
    case adjust::Observed::position:
      return fmt::format("position{} is {} {}", where, words_of_off(s.size, axis_of(s.component)), w);
    case adjust::Observed::scale_bar:
      return fmt::format("scale bar {} is {:.3f} m too {} {}", s.id, std::abs(s.size), s.size > 0 ? "long" : "short",
                         w);
    default:
      return fmt::format("{}{}: {} is {:.{}f} {} too {} {}", s.id.empty() ? word_of(s.kind) : s.id, where,
                         word_of(s.component), std::abs(s.size), s.kind == adjust::Observed::sighting ? 2 : 3,
                         adjust::unit_of(s.kind), s.size > 0 ? "large" : "small", w);
  }
}

std::vector<orient::Contradiction> say_wrong(const adjust::NamedBlock& named, Progress& progress) {
  std::vector<orient::Contradiction> all = orient::contradictions(named.block);
  for (std::size_t i = 0; i < std::min(shown, all.size()); ++i) progress.say(words_of(named, all[i]));
  if (all.size() > shown) progress.say(fmt::format("{} more points and sightings contradict", all.size() - shown));
  return all;
}

}  // namespace mesograph::report
