#pragma once

#include <array>
#include <mesograph/draw/canvas.hpp>
#include <string>
#include <utility>
#include <vector>

namespace mesograph::draw {

/// What a picture of a cloud shows. `shade`: the shape alone, lit from the upper left; `density`: points a square
/// metre.
enum class Shown { colour, height, point_class, sigma, rays, density, shade, distance };

/// Names of the classes that matter here, as the standard has them; "class 17" for others.
std::string class_name(int point_class);

/// Colours of values from low to high, and of classes.
Colour height_ramp(double t);
Colour sigma_ramp(double t);
Colour class_colour(int point_class);

/// Colour of a point as it is shown; `rgb`: its own. Exact, of no cost.
Colour colour_of(Shown shown, const std::array<std::uint8_t, 3>& rgb, double value, std::pair<double, double> range);

/// Width of the legend beside a picture, pixels; 0: such a picture needs none.
int legend_width_of(Shown shown);
/// A bar of colours with its ends written beside it, or the classes that appear. `unit`: of heights.
void draw_legend(Canvas& canvas, double x, double y, Shown shown, std::pair<double, double> range,
                 const std::vector<int>& classes, const std::string& unit);

}  // namespace mesograph::draw
