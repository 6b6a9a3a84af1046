#pragma once

#include <Eigen/Geometry>
#include <memory>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::draw {

struct Colour {
  double r = 0, g = 0, b = 0, a = 1;
};

/// The one palette of all figures: sorties in order, control, checks, ink.
Colour sortie_colour(std::size_t i);
inline constexpr Colour ink{0.13, 0.16, 0.19}, faint{0.80, 0.82, 0.84}, paper{1, 1, 1},
    control_colour{0.75, 0.16, 0.18}, check_colour{0.10, 0.42, 0.68}, height_colour{0.87, 0.52, 0.10};
/// Eight bits a channel.
inline std::array<std::uint8_t, 3> bytes_of(Colour c) {
  const auto byte = [](double v) { return static_cast<std::uint8_t>(std::lround(255 * v)); };
  return {byte(c.r), byte(c.g), byte(c.b)};
}
/// Light to dark over [0, 1], for counts and sizes.
Colour ramp(double t);
/// Red above nought, blue below, pale about it; ends at -1 and 1.
Colour diverging_ramp(double t);
/// Sets a pixel of a picture that is drawn as cells.
void set_cell(photo::Rgb& cells, int column, int row, Colour colour);

/// A finished drawing: for files, and for pages, where it stays sharp at any size.
struct Drawing {
  std::string png, svg;
};

/// A drawing in pixels, y downwards.
/// Exact: the same bytes from run to run on one build. Cost: memory of the
/// picture, four bytes a pixel, and of its strokes.
class Canvas {
 public:
  Canvas(int width, int height);
  ~Canvas();
  Canvas(const Canvas&) = delete;
  Canvas& operator=(const Canvas&) = delete;

  int width() const { return width_; }
  int height() const { return height_; }
  void line(Eigen::Vector2d a, Eigen::Vector2d b, Colour colour, double thickness = 1.0);
  void rectangle(double x, double y, double w, double h, Colour fill);
  void disc(Eigen::Vector2d at, double radius, Colour fill);
  void triangle(Eigen::Vector2d at, double size, Colour fill);
  /// An image scaled into a rectangle; `cells`: every pixel a rectangle with sharp edges.
  void picture(const photo::Rgb& image, double x, double y, double w, double h, bool cells = false);
  /// Fills a closed polygon.
  void polygon(const std::vector<Eigen::Vector2d>& corners, Colour fill);
  /// A line with a head at b.
  void arrow(Eigen::Vector2d a, Eigen::Vector2d b, Colour colour, double thickness = 1.4);
  /// Outline of a closed polygon.
  void outline(const std::vector<Eigen::Vector2d>& corners, Colour colour, double thickness = 1.0);
  enum class Align { left, centre, right };
  /// Text with its baseline at `at`.
  void text(Eigen::Vector2d at, const std::string& words, double size = 13, Colour colour = ink,
            Align align = Align::left);
  /// Text that reads upwards, its middle at `at`.
  void text_upwards(Eigen::Vector2d at, const std::string& words, double size = 12);
  double text_width(const std::string& words, double size = 13) const;
  /// Keeps later drawing inside a rectangle, until unclip.
  void clip(double x, double y, double w, double h);
  void unclip();
  std::string png() const;
  Drawing drawing() const;

 private:
  struct Surface;
  std::string svg() const;
  std::unique_ptr<Surface> surface_;
  int width_, height_;
};

/// A map frame on a canvas: east to the right, north up, the same scale in both, grid lines with coordinates.
class MapFrame {
 public:
  /// Fits a box (metres east, north) into the canvas minus margins and draws frame, grid and coordinates: in
  /// units of so many metres, negative where they count west or south.
  MapFrame(Canvas& canvas, const Eigen::AlignedBox2d& box, double right_margin, Eigen::Vector2d unit = {1.0, 1.0});
  /// Height of a canvas of that width which such a map fills, at most `most`.
  static int canvas_height(int width, const Eigen::AlignedBox2d& box, double right_margin, int most);
  Eigen::Vector2d at(const Eigen::Vector2d& en) const;
  double pixels_per_metre() const { return scale_; }
  double left() const { return left_; }
  double right() const { return right_; }
  double top() const { return top_; }
  double bottom() const { return bottom_; }
  void scale_bar() const;

 private:
  Canvas& canvas_;
  Eigen::Vector2d low_;
  double scale_ = 1, left_ = 0, right_ = 0, top_ = 0, bottom_ = 0;
};

/// A chart's frame on a canvas: two axes with ticks, labels and units.
class ChartFrame {
 public:
  struct Axis {
    double low = 0, high = 1;
    std::string label;  ///< with its unit
  };
  /// Draws frame, grid and labels in the rectangle between the margins, in canvas pixels.
  ChartFrame(Canvas& canvas, const Axis& x, const Axis& y, double right_margin = 20, double top_margin = 14);
  Eigen::Vector2d at(double x, double y) const;
  double left() const { return left_; }
  double right() const { return right_; }
  double top() const { return top_; }
  double bottom() const { return bottom_; }

 private:
  Axis x_, y_;
  double left_, right_, top_, bottom_;
};

/// 1, 2 or 5 times a power of ten, nearest below `value`.
double round_step(double value);

}  // namespace mesograph::draw
