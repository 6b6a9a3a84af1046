#pragma once

#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/layout.hpp>

namespace mesograph::adjust {

/// Median sigma of each photo's tie rays that take part, without what their likeness adds, pixels; NaN: none does.
std::vector<double> noise_sigmas(const Block& block);

/// By what the sigmas of each photo's tie rays are to be multiplied, so that its residuals fit them; one a station: as
/// the median of its camera's photos, but for those that are worse by more than chance. A photo that is blurred or
/// looks at a slant has twice the noise of another and more, and sharing one sigma it would pull as strongly. Photos of
/// few rays are judged by all of them, too. 1 each where the ties leave no redundancy of 20. Accuracy: 2 % where a
/// photo has 1,000 rays, and once the weights are near; of weights that are far off the noise of one photo shows in the
/// points, and so in others: ask again. Stations count as known but for their number. Cost: linear in rays, in
/// parallel. Source: Foerstner (1979), Ein Verfahren zur Schaetzung von Varianz- und Kovarianzkomponenten.
std::vector<double> noise_of_photos(const Block& block, const Scope& scope);

/// Rays for each independent one, 1 or more, one a camera: photos see a feature alike, so that errors of its rays are
/// alike, too, and what varies most is not told by one sigma a photo: the ties weigh on the stations as fewer rays of
/// the same noise would. What residuals of whole features, with random signs, make of each unknown is compared with
/// what independent noise of the rays' sigmas makes of it: mean of the ratios of both squares over a camera's
/// parameters, and over its stations' unknowns; the larger of both, so that neither is said to be better than it is,
/// and 1 where that is no more than chance. 1 each where the ties leave no redundancy of 20. Features nearer than ten
/// pixels on the ground are one, for a blob is found more than once. Accuracy: by 64 draws, a tenth; deterministic.
/// What is common to all rays of a photo or of a lens leaves no residual, and is not seen. Cost: about two iterations
/// of the adjustment. Source: Liang & Zeger (1986), Longitudinal data analysis using generalized linear models; the
/// draws after Hutchinson (1989), A stochastic estimator of the trace of the influence matrix.
std::vector<double> alike_rays(const Block& block, const Scope& scope);

}  // namespace mesograph::adjust
