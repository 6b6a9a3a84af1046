#pragma once

#include <mesograph/sight/search.hpp>

namespace mesograph::sight {

/// Points with coordinates that no photo should show, as a sentence: surveyed for another site, typed wrong, or missed
/// by the flight. Empty: there are none.
std::string unseen_words(const adjust::Block& block, const Outlook& outlook);

/// Points that photos should show and nobody has found or sighted: what stands there instead, a sentence each, so that
/// wrong coordinates and swapped names are seen. Of what most photos agree on, the nearest. Looked for in six photos
/// each, a sixth of the frame around, for a dozen points at most.
/// Cost: at most 72 windows.
std::vector<std::string> missed_words(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                      const Usual& usual, Progress& progress);

}  // namespace mesograph::sight
