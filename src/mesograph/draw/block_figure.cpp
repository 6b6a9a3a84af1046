#include <fmt/format.h>
#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>

namespace mesograph::draw {

namespace {

constexpr int most_width = 1000;
constexpr double left = 74, top = 30, legend_width = 210, between = 46, below = 36;

/// All stations, and the points but for one in a hundred at each end: strays must not shrink the site to a dot.
Eigen::AlignedBox3d bounds_of(const BlockPicture& picture) {
  Eigen::AlignedBox3d out;
  for (int axis = 0; axis < 3; ++axis) {
    std::vector<double> values;
    for (const BlockPicture::Point& p : picture.points) values.push_back(p.place[axis]);
    std::sort(values.begin(), values.end());
    if (!values.empty()) {
      const std::size_t tail = values.size() / 100;
      out.min()[axis] = values[tail], out.max()[axis] = values[values.size() - 1 - tail];
    }
  }
  for (const BlockPicture::Mark& s : picture.stations) out.extend(s.place);
  const double pad = 0.04 * out.sizes().maxCoeff();
  out.min().array() -= pad, out.max().array() += pad;
  return out;
}

/// One view: east to the right and another axis up.
class Panel {
 public:
  Panel(Canvas& canvas, const Eigen::AlignedBox3d& bounds, int up, double y, double scale)
      : canvas_(canvas), bounds_(bounds), up_(up), scale_(scale) {
    x0_ = left, y0_ = y;
    x1_ = x0_ + scale * (bounds.max().x() - bounds.min().x()),
    y1_ = y0_ + scale * (bounds.max()[up] - bounds.min()[up]);
  }
  double right() const { return x1_; }
  double bottom() const { return y1_; }
  Eigen::Vector2d at(const Eigen::Vector3d& p) const {
    return {x0_ + scale_ * (p.x() - bounds_.min().x()), y1_ - scale_ * (p[up_] - bounds_.min()[up_])};
  }
  void grid(double step, const std::string& title) const {
    const auto label = [&](double v) { return step < 1 ? fmt::format("{:.1f}", v) : fmt::format("{:.0f}", v + 0.0); };
    for (double e = std::ceil(bounds_.min().x() / step) * step; e <= bounds_.max().x(); e += step) {
      const double x = x0_ + scale_ * (e - bounds_.min().x());
      canvas_.line({x, y0_}, {x, y1_}, faint, 0.7);
      canvas_.text({x, y1_ + 16}, label(std::round(e / step) * step), 11, ink, Canvas::Align::centre);
    }
    for (double n = std::ceil(bounds_.min()[up_] / step) * step; n <= bounds_.max()[up_]; n += step) {
      const double y = y1_ - scale_ * (n - bounds_.min()[up_]);
      canvas_.line({x0_, y}, {x1_, y}, faint, 0.7);
      canvas_.text({x0_ - 7, y + 4}, label(std::round(n / step) * step), 11, ink, Canvas::Align::right);
    }
    canvas_.text({x0_, y0_ - 8}, title, 12);
    canvas_.outline({{x0_, y0_}, {x1_, y0_}, {x1_, y1_}, {x0_, y1_}}, ink, 1);
  }
  void draw(const BlockPicture& picture) const {
    canvas_.clip(x0_, y0_, x1_ - x0_, y1_ - y0_);
    // Sixty thousand dots fill a panel; more only take time.
    const std::size_t every = 1 + picture.points.size() / 60000;
    for (std::size_t i = 0; i < picture.points.size(); i += every) {
      const auto& c = picture.points[i].colour;
      const Eigen::Vector2d p = at(picture.points[i].place);
      canvas_.rectangle(p.x() - 0.9, p.y() - 0.9, 1.8, 1.8, {c[0] / 255.0, c[1] / 255.0, c[2] / 255.0});
    }
    for (const BlockPicture::Mark& s : picture.stations) {
      canvas_.disc(at(s.place), 4.0, paper);
      canvas_.disc(at(s.place), 3.0, sortie_colour(s.sortie));
    }
    canvas_.unclip();
  }

 private:
  Canvas& canvas_;
  const Eigen::AlignedBox3d& bounds_;
  int up_;
  double scale_, x0_, y0_, x1_ = 0, y1_ = 0;
};

}  // namespace

std::string block_figure(const BlockPicture& picture) {
  const Eigen::AlignedBox3d bounds = bounds_of(picture);
  const Eigen::Vector3d size = bounds.sizes().cwiseMax(1e-6);
  const double scale =
      std::min({(most_width - left - legend_width) / size.x(), 480 / size.y(), 620 / (size.y() + size.z())});
  const double plan_height = scale * size.y(), side_height = scale * size.z();
  const double right = std::max(600.0, left + scale * size.x() + legend_width);
  Canvas canvas(static_cast<int>(right),
                static_cast<int>(std::max(300.0, top + plan_height + between + side_height + below)));
  const Panel plan(canvas, bounds, 1, top, scale), side(canvas, bounds, 2, top + plan_height + between, scale);
  const double step = round_step(size.head<2>().maxCoeff() / 4);
  plan.grid(step, "from above");
  side.grid(step, "from the south, heights at the same scale");
  plan.draw(picture);
  side.draw(picture);
  const double x = plan.right() + 24;
  double y = top + 14;
  const auto words = [&](const std::string& text) {
    canvas.text({x, y + 4}, text, 12);
    y += 20;
  };
  if (picture.preview) {
    canvas.text({x, y + 4}, "PREVIEW", 16, control_colour);
    y += 20;
    words("reduced resolution,");
    words("not for use");
    y += 8;
  }
  for (std::size_t i = 0; i < picture.sorties.size(); ++i) {
    const auto n = std::count_if(picture.stations.begin(), picture.stations.end(),
                                 [&](const BlockPicture::Mark& s) { return s.sortie == i; });
    canvas.disc({x + 6, y}, 4, sortie_colour(i));
    canvas.text({x + 20, y + 4}, fmt::format("{} photos of {}", n, picture.sorties[i]), 12);
    y += 20;
  }
  words(fmt::format("{} tie points", picture.points.size()));
  if (picture.free) {
    y += 8;
    canvas.text({x, y + 4}, "FREE BLOCK", 14, control_colour);
    y += 20;
    words("scale and place unknown");
  }
  return canvas.png();
}

}  // namespace mesograph::draw
