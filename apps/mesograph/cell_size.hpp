#pragma once

#include "console.hpp"

namespace mesograph::app {

/// Metres that --cell names: "0.1", or "2px", pixels of the survey's photos on the ground; NaN where it is not given.
/// Throws UsageError where it is neither.
double cell_size(const Call& call, Progress& progress);

}  // namespace mesograph::app
