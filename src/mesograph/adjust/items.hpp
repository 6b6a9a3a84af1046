#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/named_block.hpp>

namespace mesograph::adjust {

/// Observations have names, by which people leave them out: "K05" (a control or tie point with all its image points),
/// "K05:plan" and "K05:height" (its coordinates), "K05@PHOTO" (its image point there), "bar:B1", "position@PHOTO" and
/// "attitude@PHOTO". Exact: set_aside takes out what item_of named, whatever signs names hold.
std::string item_of(const NamedBlock& named, const Suspect& suspect);

/// Unit of the estimated error of an observation: "px", "m", of attitudes "deg".
const char* unit_of(Observed kind);

/// Takes an item out of a block; false where there is none of that name. Cost: a look at all names.
bool set_aside(NamedBlock& named, const std::string& item);

}  // namespace mesograph::adjust
