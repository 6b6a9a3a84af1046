#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace mesograph::report {

/// What a person needs to look at a model and to measure in it.
struct ModelPage {
  /// A photo as a pinhole camera, in the model's coordinates: what tells which photos see a place.
  struct Photo {
    std::string image;
    Eigen::Vector3d C = Eigen::Vector3d::Zero();
    Eigen::Matrix3d model_from_camera = Eigen::Matrix3d::Identity();
    double c = 0, x0 = 0, y0 = 0;  ///< pixels; of the principal point, from the upper left
    int width = 0, height = 0;
  };
  std::string title, crs;                           ///< what the coordinates are of, in words
  std::string unit = "m";                           ///< of the coordinates
  Eigen::Vector3d shift = Eigen::Vector3d::Zero();  ///< added to the model's coordinates gives east, north, height
  /// True lengths, m, of a unit in the plan and in height: a grid stretches.
  double plan_metres = 1, height_metres = 1;
  std::string glb;  ///< the model as write_glb makes it, not placed
  /// The same with few triangles, for turning and for what hides what: empty where the model itself has few.
  std::vector<Eigen::Vector3f> coarse_vertices;
  std::vector<std::array<std::uint8_t, 3>> coarse_colours;
  std::vector<std::array<std::int32_t, 3>> coarse_faces;
  std::vector<Photo> photos;
};

/// One HTML file that works from disk without a network and without a graphics card: the model with its pictures, in
/// plain shading, coloured by height or by how sure it is; turned, moved, cut by a plane; places, distances and heights
/// measured by clicks, with their standard deviations; the photos that see a clicked place.
/// Accuracy: single precision against the model's shift, a tenth of a millimetre in a kilometre. Cost: four thirds of
/// the model's bytes. The drawing is done by three.js (Debian's libjs-three), which stands in the page.
std::string model_page(const ModelPage& page);

}  // namespace mesograph::report
