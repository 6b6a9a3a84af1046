#pragma once

#include <mesograph/adjust/block.hpp>
#include <string>

namespace mesograph::orient {

/// A `local` survey: the photos' positions gave the block a frame to start in; the control's frame is another one, and
/// only control can lead there. Moves the block by a similarity onto the control points that are known in space and
/// intersected (see similarity). Throws Error, for `what`, where fewer than three are, or they lie on a line.
/// Accuracy: that of the control over the number of points.
void move_onto_control(adjust::Block& block, const std::string& what);

}  // namespace mesograph::orient
