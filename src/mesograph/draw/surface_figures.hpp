#pragma once

#include <Eigen/Geometry>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/surface/grid.hpp>
#include <string>
#include <utility>
#include <vector>

namespace mesograph::draw {

/// Lines over a map: places in m, thick ones drawn heavier, dashed ones where they are a guess.
struct MapLine {
  std::vector<Eigen::Vector2d> places;
  bool thick = false, dashed = false, closed = false;
  std::string label;  ///< at its middle; empty: none
};

/// A height raster from above: colours of height in light from the northwest, filled cells paler, empty
/// ones grey, with coordinates, scale bar and legend. `notes`: lines beside it, which say what it is. Accuracy: a pixel
/// shows the cell in its middle. Cost: one look a pixel.
Drawing surface_drawing(const surface::Surface& surface, const std::vector<std::string>& notes,
                        const std::vector<MapLine>& lines = {});

/// Differences of height over the shape of the ground, red where it is higher and blue where it is lower, pale where
/// that is not significant; `limit`: m, where colours end.
Drawing difference_drawing(const surface::Surface& ground, const std::vector<float>& difference,
                           const std::vector<float>& significance, double limit, const std::vector<std::string>& notes,
                           const std::vector<MapLine>& lines);

/// A picture that lies over a box of the plan (m), with coordinates, scale bar and notes beside it, as PNG.
std::string picture_map(const photo::Rgb& picture, const Eigen::AlignedBox2d& box,
                        const std::vector<std::string>& notes);

/// A surface as a line of a profile; `name` in its legend, empty: none.
struct ProfileLine {
  const surface::Surface* surface = nullptr;
  Colour colour = ink;
  std::string name;
};

/// Heights of surfaces along a line in the plan, from a to b (m) and a tenth beyond both, where marks stand. Gaps stay
/// open. Accuracy: bilinear between cells. Cost: 400 heights a line.
Drawing profile_drawing(const std::vector<ProfileLine>& lines, const Eigen::Vector2d& a, const Eigen::Vector2d& b);

/// How often values occur between -limit and limit, in 61 bars; those that are no numbers do not.
Drawing histogram_drawing(const std::vector<float>& values, std::pair<double, double> range, const std::string& of,
                          const std::string& counted);

}  // namespace mesograph::draw
