#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/stages/mosaic_job.hpp>

namespace mesograph::stages {

/// Bodies of water that people have outlined go to one photo each, that which shows most of them (then the most upright
/// one), what it does not show to the next; detail passes gently there, for no two photos show the same waves. Says
/// where one photo does not do. Accuracy: whole squares. Cost: a place a square and photo that reaches it.
void take_water(MosaicJob& job, Progress& progress);

/// Squares whose middles lie in a polygon named after a photo go to it, where it shows them. Where polygons overlap,
/// that of the photo taken nearest to the square counts. Where they are a whole mosaic, which they leave but holes of,
/// holes go to the nearest polygon's photo. Says what it could not follow. Accuracy and cost: likewise.
void take_seams(MosaicJob& job, Progress& progress);

}  // namespace mesograph::stages
