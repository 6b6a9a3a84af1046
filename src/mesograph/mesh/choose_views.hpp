#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/mesh/face_views.hpp>

namespace mesograph::mesh {

struct ChoiceOptions {
  double of_length = 0.5;  ///< what a seam along a triangle's side costs, against a photo that shows nothing: 1
  double of_step = 0.01;   ///< and for each grey level by which the photos differ beside it
  double odd = 1;          ///< what showing something that moves costs
  int rounds = 2;          ///< times that each photo is offered
};

/// The photo of each face, -1 where none shows it: least sum of what photos lack of the best one's pixels, and of
/// seams, dear where photos differ. Each photo in turn takes what lowers the sum, by a least cut. Accuracy: within
/// twice the least sum; alike for any order of threads. Cost: a cut a photo and round over the faces that it shows.
/// Source: Lempitsky and Ivanov (2007), Seamless mosaicing of image-based texture maps, CVPR; Boykov, Veksler and Zabih
/// (2001), Fast approximate energy minimization via graph cuts, PAMI 23.
std::vector<std::int32_t> choose_views(const TriangleMesh& mesh, const FaceViews& views, int photos,
                                       const ChoiceOptions& options, Progress& progress);

}  // namespace mesograph::mesh
