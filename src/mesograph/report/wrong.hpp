#pragma once

#include <mesograph/adjust/items.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/orient/contradictions.hpp>
#include <string>

namespace mesograph::report {

/// "K04 is surveyed 1.02 m too high", "K04 and K08 look exchanged", "K04 in G0007.jpg lies 400 px from where its other
/// photos put it".
std::string words_of(const adjust::NamedBlock& named, const orient::Contradiction& c);
/// "K04 is surveyed 0.27 m too high (w = 9.3)", "K04 in G0007.jpg: x is 3.1 px too large (w = 8.5)".
std::string words_of(const adjust::NamedBlock& named, const adjust::Suspect& s);

/// Says what surveyed points and sightings contradict before any adjustment, the largest first, twelve at most; gives
/// all. Cost: that of orient::contradictions.
std::vector<orient::Contradiction> say_wrong(const adjust::NamedBlock& named, Progress& progress);

}  // namespace mesograph::report
