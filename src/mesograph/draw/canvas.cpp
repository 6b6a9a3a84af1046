#include <cairo-svg.h>
#include <cairo.h>
#include <fmt/format.h>
#include <png.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/draw/canvas.hpp>
#include <regex>

namespace mesograph::draw {

/// What is drawn is recorded, and played to a PNG or an SVG at the end.
struct Canvas::Surface {
  cairo_surface_t* image = nullptr;
  cairo_t* pen = nullptr;
};

Colour sortie_colour(std::size_t i) {
  static const Colour colours[] = {
      {0.16, 0.50, 0.38}, {0.55, 0.33, 0.62}, {0.80, 0.47, 0.13}, {0.30, 0.45, 0.75}, {0.50, 0.50, 0.20}};
  return colours[i % 5];
}

Colour ramp(double t) {
  t = std::clamp(t, 0.0, 1.0);
  // Pale sand to deep green-blue; light falls evenly, so that it reads in grey too.
  return {0.96 - 0.86 * t, 0.93 - 0.60 * t, 0.80 - 0.38 * t};
}

Colour diverging_ramp(double t) {
  const Colour up{0.70, 0.13, 0.15}, down{0.10, 0.30, 0.62}, middle{0.96, 0.95, 0.93};
  const Colour end = t > 0 ? up : down;
  const double a = std::min(1.0, std::abs(t));
  return {middle.r + a * (end.r - middle.r), middle.g + a * (end.g - middle.g), middle.b + a * (end.b - middle.b), 1};
}

void set_cell(photo::Rgb& cells, int column, int row, Colour c) {
  int k = 0;
  for (const double v : {c.r, c.g, c.b}) cells.at(column, row, k++) = static_cast<std::uint8_t>(std::lround(255 * v));
}

Canvas::Canvas(int width, int height) : surface_(std::make_unique<Surface>()), width_(width), height_(height) {
  const cairo_rectangle_t extent{0, 0, static_cast<double>(width), static_cast<double>(height)};
  surface_->image = cairo_recording_surface_create(CAIRO_CONTENT_COLOR, &extent);
  surface_->pen = cairo_create(surface_->image);
  cairo_select_font_face(surface_->pen, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  rectangle(0, 0, width, height, paper);
}

Canvas::~Canvas() {
  cairo_destroy(surface_->pen);
  cairo_surface_destroy(surface_->image);
}

namespace {
/// Begins something of a colour: what stands before leaves the pen where it ended, and must not be joined to.
void set(cairo_t* pen, Colour c) {
  cairo_new_path(pen);
  cairo_set_source_rgba(pen, c.r, c.g, c.b, c.a);
}

/// Letters as outlines, which every reader of a drawing knows.
void write(cairo_t* pen, const std::string& words) {
  cairo_text_path(pen, words.c_str());
  cairo_fill(pen);
}
}  // namespace

void Canvas::line(Eigen::Vector2d a, Eigen::Vector2d b, Colour colour, double thickness) {
  set(surface_->pen, colour);
  cairo_set_line_width(surface_->pen, thickness);
  cairo_move_to(surface_->pen, a.x(), a.y());
  cairo_line_to(surface_->pen, b.x(), b.y());
  cairo_stroke(surface_->pen);
}

void Canvas::rectangle(double x, double y, double w, double h, Colour fill) {
  set(surface_->pen, fill);
  cairo_rectangle(surface_->pen, x, y, w, h);
  cairo_fill(surface_->pen);
}

namespace {

photo::Rgb enlarged(const photo::Rgb& small, int factor) {
  photo::Rgb out(small.width * factor, small.height * factor, 3);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col)
      for (int k = 0; k < 3; ++k) out.at(col, row, k) = small.at(col / factor, row / factor, k);
  return out;
}

}  // namespace

void Canvas::polygon(const std::vector<Eigen::Vector2d>& corners, Colour fill) {
  set(surface_->pen, fill);
  for (const Eigen::Vector2d& p : corners) cairo_line_to(surface_->pen, p.x(), p.y());
  cairo_close_path(surface_->pen);
  cairo_fill(surface_->pen);
}

void Canvas::arrow(Eigen::Vector2d a, Eigen::Vector2d b, Colour colour, double thickness) {
  line(a, b, colour, thickness);
  const double length = (b - a).norm(), head = std::min(7.0, 0.5 * length);
  if (length < 3) return;
  const Eigen::Vector2d ahead = (b - a) / length, aside(-ahead.y(), ahead.x());
  polygon({b, b - head * ahead + 0.42 * head * aside, b - head * ahead - 0.42 * head * aside}, colour);
}

void Canvas::text_upwards(Eigen::Vector2d at, const std::string& words, double size) {
  set(surface_->pen, ink);
  cairo_save(surface_->pen);
  cairo_translate(surface_->pen, at.x(), at.y());
  cairo_rotate(surface_->pen, -1.5707963267948966);
  cairo_move_to(surface_->pen, -0.5 * text_width(words, size), 0);
  cairo_set_font_size(surface_->pen, size);
  write(surface_->pen, words);
  cairo_restore(surface_->pen);
}

void Canvas::picture(const photo::Rgb& small, double x, double y, double w, double h, bool cells) {
  // Viewers smooth what they enlarge: cells get so many pixels that the blur between them cannot be seen.
  // Surfaces of cairo have 32,767 pixels a side at most, which a picture of a few columns would leave.
  constexpr int longest = 16000;
  const int factor = std::max(1, std::min(1 + 800 / std::max(1, small.width), longest / std::max(1, small.height)));
  const photo::Rgb image = cells ? enlarged(small, factor) : small;
  cairo_surface_t* source = cairo_image_surface_create(CAIRO_FORMAT_RGB24, image.width, image.height);
  unsigned char* data = cairo_image_surface_get_data(source);
  const int stride = cairo_image_surface_get_stride(source);
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      unsigned char* p = data + static_cast<std::ptrdiff_t>(row) * stride + 4 * col;
      p[0] = image.at(col, row, 2), p[1] = image.at(col, row, 1), p[2] = image.at(col, row, 0), p[3] = 255;
    }
  cairo_surface_mark_dirty(source);
  cairo_save(surface_->pen);
  cairo_translate(surface_->pen, x, y);
  cairo_scale(surface_->pen, w / image.width, h / image.height);
  cairo_set_source_surface(surface_->pen, source, 0, 0);
  if (cells) {
    // Painted whole it stays an image in a vector drawing; as a fill it would be a pattern, which readers of them
    // shift.
    cairo_pattern_set_filter(cairo_get_source(surface_->pen), CAIRO_FILTER_NEAREST);
    cairo_paint(surface_->pen);
  } else {
    cairo_pattern_set_extend(cairo_get_source(surface_->pen), CAIRO_EXTEND_PAD);
    cairo_rectangle(surface_->pen, 0, 0, image.width, image.height);
    cairo_fill(surface_->pen);
  }
  cairo_restore(surface_->pen);
  cairo_surface_destroy(source);
}

void Canvas::outline(const std::vector<Eigen::Vector2d>& corners, Colour colour, double thickness) {
  for (std::size_t i = 0; i < corners.size(); ++i)
    line(corners[i], corners[(i + 1) % corners.size()], colour, thickness);
}

void Canvas::disc(Eigen::Vector2d at, double radius, Colour fill) {
  set(surface_->pen, fill);
  cairo_arc(surface_->pen, at.x(), at.y(), radius, 0, 6.283185307179586);
  cairo_fill(surface_->pen);
}

void Canvas::triangle(Eigen::Vector2d at, double size, Colour fill) {
  set(surface_->pen, fill);
  cairo_move_to(surface_->pen, at.x(), at.y() - size);
  cairo_line_to(surface_->pen, at.x() + 0.87 * size, at.y() + 0.6 * size);
  cairo_line_to(surface_->pen, at.x() - 0.87 * size, at.y() + 0.6 * size);
  cairo_close_path(surface_->pen);
  cairo_fill(surface_->pen);
}

double Canvas::text_width(const std::string& words, double size) const {
  cairo_set_font_size(surface_->pen, size);
  cairo_text_extents_t extents;
  cairo_text_extents(surface_->pen, words.c_str(), &extents);
  return extents.x_advance;
}

void Canvas::text(Eigen::Vector2d at, const std::string& words, double size, Colour colour, Align align) {
  const double shift = align == Align::left ? 0.0 : align == Align::centre ? 0.5 : 1.0;
  set(surface_->pen, colour);
  cairo_move_to(surface_->pen, at.x() - shift * text_width(words, size), at.y());
  cairo_set_font_size(surface_->pen, size);
  write(surface_->pen, words);
}

void Canvas::clip(double x, double y, double w, double h) {
  cairo_save(surface_->pen);
  cairo_rectangle(surface_->pen, x, y, w, h);
  cairo_clip(surface_->pen);
}

void Canvas::unclip() { cairo_restore(surface_->pen); }

namespace {

cairo_status_t append(void* to, const unsigned char* data, unsigned int length) {
  static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(data), length);
  return CAIRO_STATUS_SUCCESS;
}

void play(cairo_surface_t* recorded, cairo_surface_t* onto) {
  cairo_t* pen = cairo_create(onto);
  cairo_set_source_surface(pen, recorded, 0, 0);
  cairo_paint(pen);
  cairo_destroy(pen);
}

/// Red, green, blue of a surface whose pixels are words of 0x00RRGGBB.
std::vector<std::uint8_t> rgb_of(cairo_surface_t* image, int width, int height) {
  std::vector<std::uint8_t> out;
  out.reserve(3 * static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
  const unsigned char* row = cairo_image_surface_get_data(image);
  for (int y = 0; y < height; ++y, row += cairo_image_surface_get_stride(image))
    for (int x = 0; x < width; ++x) {
      std::uint32_t word;
      std::memcpy(&word, row + 4 * x, 4);
      for (const int shift : {16, 8, 0}) out.push_back(static_cast<std::uint8_t>(word >> shift));
    }
  return out;
}

}  // namespace

std::string Canvas::png() const {
  std::string out;
  cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, width_, height_);
  play(surface_->image, image);
  cairo_surface_flush(image);
  // Cairo's own writer packs as hard as it can, which of a sheet of photos takes ten times as long as drawing it.
  png_image png{};
  png.version = PNG_IMAGE_VERSION;
  png.width = static_cast<png_uint_32>(width_), png.height = static_cast<png_uint_32>(height_);
  png.format = PNG_FORMAT_RGB, png.flags = PNG_IMAGE_FLAG_FAST;
  const std::vector<std::uint8_t> pixels = rgb_of(image, width_, height_);
  cairo_surface_destroy(image);
  png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(png);
  out.resize(size);
  if (!png_image_write_to_memory(&png, out.data(), &size, 0, pixels.data(), 0, nullptr))
    throw Error("a figure of {} x {} pixels cannot be written as PNG: {}", width_, height_, png.message);
  out.resize(size);
  return out;
}

namespace {

/// Cairo counts its surfaces through the whole process, and names parts of a drawing by that: numbered anew by their
/// first appearance, the same drawing is the same bytes whatever was drawn before.
std::string numbered_anew(const std::string& svg) {
  static const std::regex name("(id=\"|#)(surface|image)([0-9]+)");
  std::map<std::string, int> numbers;
  std::string out;
  auto from = svg.cbegin();
  for (std::sregex_iterator match(svg.begin(), svg.end(), name), end; match != end; ++match) {
    const int number = numbers.emplace((*match)[3], static_cast<int>(numbers.size())).first->second;
    out.append(from, (*match)[0].first);
    out += (*match)[1].str() + (*match)[2].str() + std::to_string(number);
    from = (*match)[0].second;
  }
  return out.append(from, svg.cend());
}

}  // namespace

std::string Canvas::svg() const {
  std::string out;
  cairo_surface_t* vector = cairo_svg_surface_create_for_stream(append, &out, width_, height_);
  play(surface_->image, vector);
  cairo_surface_destroy(vector);
  return numbered_anew(out);
}

Drawing Canvas::drawing() const { return {png(), svg()}; }

double round_step(double value) {
  const double power = std::pow(10.0, std::floor(std::log10(value)));
  for (const double step : {5.0, 2.0, 1.0})
    if (step * power <= value * (1 + 1e-9)) return step * power;
  return power;
}

namespace {
constexpr double margin_left = 74, margin_bottom = 34, margin_top = 14;
}

int MapFrame::canvas_height(int width, const Eigen::AlignedBox2d& box, double right_margin, int most) {
  const Eigen::Vector2d size = box.sizes().cwiseMax(1.0);
  const double map = (width - margin_left - right_margin) * size.y() / size.x();
  return std::clamp(static_cast<int>(map + margin_bottom + margin_top), std::min(300, most), most);
}

MapFrame::MapFrame(Canvas& canvas, const Eigen::AlignedBox2d& box, double right_margin, Eigen::Vector2d unit)
    : canvas_(canvas) {
  const double w = canvas.width() - margin_left - right_margin, h = canvas.height() - margin_bottom - margin_top;
  const Eigen::Vector2d size = box.sizes().cwiseMax(1.0);
  scale_ = std::min(w / size.x(), h / size.y());
  // The frame hugs the data: no empty bands beside a narrow site.
  left_ = margin_left, top_ = margin_top;
  right_ = left_ + scale_ * size.x(), bottom_ = top_ + scale_ * size.y();
  low_ = box.min();
  const double step = round_step(std::max(size.x(), size.y()) / 4 / std::abs(unit.x()));
  for (int axis = 0; axis < 2; ++axis) {
    const double first = low_[axis] / unit[axis], last = (low_[axis] + size[axis]) / unit[axis];
    for (double v = std::ceil(std::min(first, last) / step) * step; v <= std::max(first, last); v += step) {
      Eigen::Vector2d place = low_;
      place[axis] = v * unit[axis];
      const Eigen::Vector2d p = at(place);
      const std::string label = fmt::format("{:.0f}", std::round(v) + 0.0);
      if (axis == 0) {
        canvas.line({p.x(), top_}, {p.x(), bottom_}, faint, 0.7);
        canvas.text({p.x(), bottom_ + 18}, label, 11, ink, Canvas::Align::centre);
      } else {
        canvas.line({left_, p.y()}, {right_, p.y()}, faint, 0.7);
        canvas.text({left_ - 7, p.y() + 4}, label, 11, ink, Canvas::Align::right);
      }
    }
  }
  for (const double x : {left_, right_}) canvas.line({x, top_}, {x, bottom_}, ink, 1);
  for (const double y : {top_, bottom_}) canvas.line({left_, y}, {right_, y}, ink, 1);
}

Eigen::Vector2d MapFrame::at(const Eigen::Vector2d& en) const {
  return {left_ + scale_ * (en.x() - low_.x()), bottom_ - scale_ * (en.y() - low_.y())};
}

void MapFrame::scale_bar() const {
  const double length = round_step(120 / scale_);
  const double x = right_ + 24, y = bottom_ - 12;
  canvas_.line({x, y}, {x + scale_ * length, y}, ink, 2);
  for (const double end : {x, x + scale_ * length}) canvas_.line({end, y - 4}, {end, y + 4}, ink, 1);
  canvas_.text({x, y - 9}, fmt::format("{:.0f} m", length), 12);
}

ChartFrame::ChartFrame(Canvas& canvas, const Axis& x, const Axis& y, double right_margin, double top_margin)
    : x_(x),
      y_(y),
      left_(72),
      right_(canvas.width() - right_margin),
      top_(top_margin),
      bottom_(canvas.height() - 46.0) {
  const auto ticks = [&](const Axis& axis, bool across) {
    const double step = round_step((axis.high - axis.low) / 4);
    const int decimals = std::max(0, static_cast<int>(std::ceil(-std::log10(step) - 1e-9)));
    for (double v = std::ceil(axis.low / step - 1e-9) * step; v <= axis.high + 1e-9 * step; v += step) {
      const std::string label = fmt::format("{:.{}f}", std::abs(v) < 1e-9 * step ? 0.0 : v, decimals);
      const Eigen::Vector2d p = across ? at(v, y_.low) : at(x_.low, v);
      if (across) {
        canvas.line({p.x(), top_}, {p.x(), bottom_}, faint, 0.7);
        canvas.text({p.x(), bottom_ + 17}, label, 11, ink, Canvas::Align::centre);
      } else {
        canvas.line({left_, p.y()}, {right_, p.y()}, faint, 0.7);
        canvas.text({left_ - 7, p.y() + 4}, label, 11, ink, Canvas::Align::right);
      }
    }
  };
  ticks(x, true), ticks(y, false);
  for (const double edge : {left_, right_}) canvas.line({edge, top_}, {edge, bottom_}, ink, 1);
  for (const double edge : {top_, bottom_}) canvas.line({left_, edge}, {right_, edge}, ink, 1);
  canvas.text({0.5 * (left_ + right_), bottom_ + 37}, x.label, 12, ink, Canvas::Align::centre);
  canvas.text_upwards({16, 0.5 * (top_ + bottom_)}, y.label);
}

Eigen::Vector2d ChartFrame::at(double x, double y) const {
  return {left_ + (x - x_.low) / (x_.high - x_.low) * (right_ - left_),
          bottom_ - (y - y_.low) / (y_.high - y_.low) * (bottom_ - top_)};
}

}  // namespace mesograph::draw
