#pragma once

#include <mesograph/sight/search.hpp>

namespace mesograph::sight {

/// Places of a box of an image that look most like one of some drawings of a kind: centred on whole pixels, by the
/// correlation of grey values within the drawing's window, 0.4 at least; the best one first, `most` of them, no two
/// within half a radius. `shapes`: how the target may lie, wherever. For targets whose shape is known and whose paint
/// hardly differs from ground beside it, so that no outline of it can be found.
/// Cost: shapes times pixels of the box times those of a window, some 2e9 a second.
std::vector<TargetShape> most_alike(const photo::Grey& image, TargetKind kind, const std::vector<TargetShape>& shapes,
                                    const PlaneView& view, const Window& box, std::size_t most);

/// A target that was found, whose likes are looked for at other points.
struct Pattern {
  Seen seen;
  Eigen::Vector3d X;          ///< where it lies, local frame, m
  std::vector<double> tones;  ///< grey level of the same paint in each photo, as other targets show it
};

/// Where one point is looked for in a photo.
struct AlikeWindow {
  Eigen::Vector3d X;  ///< of the point, local frame, m
  Window window;
};

/// Looks at points, in the windows in which photos should show them, for what looks like a pattern, however it is
/// turned on the ground there, and is as light as its paint: tufts of grass cross, too, but are darker. `windows`: of
/// each photo, those of each point.
/// Accuracy: of places as find_targets, with the shape held (TargetOptions::known_shape). Cost: some ten milliseconds
/// a window.
Look look_for_alike(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Pattern& pattern,
                    const std::vector<std::vector<AlikeWindow>>& windows, Progress& progress);

}  // namespace mesograph::sight
