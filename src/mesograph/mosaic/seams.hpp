#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/mosaic/candidates.hpp>
#include <vector>

namespace mesograph::mosaic {

struct SeamOptions {
  double of_length = 1.5;   ///< what each side of a square costs that is a seam, grey levels
  double of_texture = 0.3;  ///< what a grey level costs that a seam's two sides differ by in a photo itself
  int rounds = 2;           ///< of tries of every photo
};

/// How far both photos are apart at a square along a seam, grey levels, before blending.
struct SeamStep {
  int col = 0, row = 0;
  float levels = 0;
};

/// Which candidate each square of the coarse grid is taken from; -1: nobody shows it.
struct Labels {
  std::vector<int> candidate;
  std::vector<SeamStep> steps;
};

/// Takes squares from the candidates so that these see them well and seams run where both photos show the same and the
/// surface does not jump: a minimum of costs of squares and of seams, found by letting one photo after another take
/// what lowers the sum (alpha expansion), each time by a least cut. Costs of a seam between two squares: how far apart
/// both photos' colours are in both, and both squares' in each photo (seams keep to even ground), their roughness, and
/// its length. Source: Agarwala et al. (2004), Interactive digital photomontage, SIGGRAPH; Boykov, Veksler and Zabih
/// (2001), Fast approximate energy minimization via graph cuts, PAMI 23. Accuracy: a minimum that no single photo can
/// lower. Deterministic. Cost: a cut a photo and round, of its footprint.
Labels choose_seams(const std::vector<Candidate>& candidates, const surface::Grid& coarse,
                    const std::vector<float>& rough, const SeamOptions& options, Progress& progress);

}  // namespace mesograph::mosaic
