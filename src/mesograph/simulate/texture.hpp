#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <vector>

namespace mesograph::simulate {

/// What covers a surface, without light: its colour, and how much of it texture changes.
struct Skin {
  Eigen::Vector3f colour{0.42f, 0.45f, 0.28f};
  float contrast = 1;
};

/// Noise at points of a surface: octaves from 13 m down to their `footprint` m, and a slow change of hue.
/// Exact to single precision. Cost: an octave a point some nanoseconds.
struct Texture {
  std::vector<float> bright, hue;

  /// Colour of the point i, 0 to 1.
  Eigen::Vector3f on(const Skin& skin, std::size_t i) const;
};
Texture texture_at(const std::vector<Eigen::Vector3d>& X, const std::vector<double>& footprint, std::uint32_t seed);

}  // namespace mesograph::simulate
