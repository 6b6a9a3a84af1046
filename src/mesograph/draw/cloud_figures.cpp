#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/judge.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <tuple>

namespace mesograph::draw {

namespace {

/// Distance between neighbouring points of a cloud, by a sample of them.
double spacing_of(cloud::LasReader& file, const cloud::Extent& extent) {
  const std::vector<double> x = cloud::sample(file, [](const auto&points, std::size_t i) { return points.at(i).x(); }),
                            y = cloud::sample(file, [](const auto&points, std::size_t i) { return points.at(i).y(); });
  constexpr std::size_t most = 200000;
  const std::size_t every = 1 + x.size() / most;
  std::vector<cloud::TilePoint> some;
  for (std::size_t i = 0; i < x.size(); i += every)
    if (const Eigen::Vector3d X(x[i], y[i], 0); extent.holds(X)) some.push_back({X, 0, 0, 0, true});
  if (some.empty()) return 0;
  // A sample of one point in so many lies the root of that apart.
  return cloud::plan_spacing(some) * std::sqrt(static_cast<double>(some.size()) / static_cast<double>(file.to_read()));
}

/// Points a square metre, in squares of some spacings.
class Densities {
 public:
  Densities(cloud::LasReader& file, const cloud::Extent& extent, double spacing, double metres, Progress& progress)
      : low_(extent.box.min().head<2>()) {
    const Eigen::Vector2d size = extent.box.sizes().head<2>();
    constexpr double most = 4e6;  // squares
    cell_ = std::max({6 * spacing, std::sqrt(size.x() * size.y() / most), 1e-9});
    counts_ = photo::Raster<float>(1 + static_cast<int>(size.x() / cell_), 1 + static_cast<int>(size.y() / cell_));
    per_m2_ = 1 / (cell_ * cell_ * metres * metres);
    file.rewind();
    progress.start("counting", file.to_read());
    for (cloud::LasPoints points = file.next(); points.size() > 0; points = file.next()) {
      progress.check();
      for (std::size_t i = 0; i < points.size(); ++i)
        if (const Eigen::Vector3d X = points.at(i); extent.holds(X)) ++at(X);
      progress.advance(points.size());
    }
  }
  double of(const Eigen::Vector3d& X) { return at(X) * per_m2_; }

 private:
  Eigen::Vector2d low_;
  double cell_ = 1, per_m2_ = 1;
  photo::Raster<float> counts_;

  float& at(const Eigen::Vector3d& X) {
    const Eigen::Vector2d p = (X.head<2>() - low_) / cell_;
    return counts_.at(std::clamp(static_cast<int>(p.x()), 0, counts_.width - 1),
                      std::clamp(static_cast<int>(p.y()), 0, counts_.height - 1));
  }
};

/// What a picture shows of a file's points, and all that views of it need.
struct Scene {
  cloud::Extent extent;
  Eigen::AlignedBox3d box;
  CloudView::Options options;
  std::function<double(const cloud::LasPoints&, std::size_t, const Eigen::Vector3d&)> value;
  std::pair<double, double> range{0, 1};
  std::vector<int> classes;
};

/// All but one in a hundred at each end.
std::pair<double, double> middle_range(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  const std::size_t tail = values.size() / 100;
  return {values[tail], values[values.size() - 1 - tail]};
}

Scene scene_of(cloud::LasReader& file, const cloud::Description& described, const CloudView::Options& options,
               Progress& progress) {
  Scene out;
  out.options = options;
  const cloud::Units units = cloud::units_of(file.header());
  out.options.metres = units.angles ? 111320 : units.metres.x();
  out.options.unit = units.plan;
  // Strays far off, above or below must not shrink the site to a strip.
  out.extent = cloud::extent_of(file, progress);
  if (out.extent.strays > 0)
    progress.say(fmt::format("{} of {} points lie far from all others and are not drawn", out.extent.strays,
                             file.header().points));
  out.options.spacing = spacing_of(file, out.extent);
  const auto heights =
      middle_range(cloud::sample(file, [](const cloud::LasPoints& p, std::size_t i) { return p.at(i).z(); }));
  out.box = out.extent.box;
  std::tie(out.box.min().z(), out.box.max().z()) = heights;
  const Shown shown = options.shown;
  const cloud::LasAttribute* attribute = shown == Shown::sigma  ? cloud::sigma_of(file.header())
                                         : shown == Shown::rays ? file.header().attribute("rays")
                                                                : nullptr;
  if (attribute) {
    out.value = [attribute](const cloud::LasPoints& p, std::size_t i, const auto&) { return p.value(i, *attribute); };
    out.range = middle_range(
        cloud::sample(file, [&](const cloud::LasPoints& p, std::size_t i) { return p.value(i, *attribute); }));
    if (shown == Shown::sigma) out.range.first = 0;
  } else if (shown == Shown::density) {
    auto densities = std::make_shared<Densities>(file, out.extent, out.options.spacing, out.options.metres, progress);
    out.value = [densities](const cloud::LasPoints&, std::size_t, const Eigen::Vector3d& X) {
      return densities->of(X);
    };
    // Twice the usual density and more: walls, seen from above, would make all else look alike.
    std::vector<double> some =
        cloud::sample(file, [&](const cloud::LasPoints& p, std::size_t i) { return densities->of(p.at(i)); });
    out.range = {0, 2 * median(some)};
  } else if (shown == Shown::point_class) {
    out.value = [](const cloud::LasPoints& p, std::size_t i, const auto&) { return double(p.point_class(i)); };
  } else {
    out.value = [](const cloud::LasPoints&, std::size_t, const Eigen::Vector3d& X) { return X.z(); };
    out.range = heights;
  }
  for (const auto& [c, n] : described.classes) out.classes.push_back(c);
  return out;
}

/// Adds all points of a file to some views, each on a thread.
void draw_all(cloud::LasReader& file, const cloud::Description& described, const Scene& scene,
              std::vector<CloudView>& views, Progress& progress) {
  struct Dot {
    Eigen::Vector3d X;
    std::array<std::uint8_t, 3> colour;
    double value;
  };
  std::vector<Dot> dots;
  file.rewind();
  progress.start("drawing", file.to_read());
  for (cloud::LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    dots.clear();
    for (std::size_t i = 0; i < points.size(); ++i)
      if (const Eigen::Vector3d X = points.at(i); scene.extent.holds(X))
        dots.push_back({X, points.colour(i, described.eight_bit), scene.value(points, i, X)});
    parallel_for(views.size(), [&](std::size_t v) {
      for (const Dot& dot : dots) views[v].add(dot.X, dot.colour, dot.value);
    });
    progress.advance(points.size());
  }
}

}  // namespace

std::string cloud_sheet(cloud::LasReader& file, const cloud::Description& described, const CloudSheetOptions& options,
                        Progress& progress) {
  return cloud_drawing(file, described, options, progress).png;
}

Drawing cloud_drawing(cloud::LasReader& file, const cloud::Description& described, const CloudSheetOptions& options,
                      Progress& progress) {
  constexpr int margin = 16, gap = 24, caption = 22, heading = 30;
  const Scene scene = scene_of(file, described, options.view, progress);
  const std::size_t n = options.eyes.size(), columns = n == 1 ? 1 : n <= 4 ? 2 : 3;
  const int legend = legend_width_of(options.view.shown), across = options.view.width - legend;
  std::vector<CloudView> views;
  for (const Eye& eye : options.eyes) {
    CloudView::Options own = scene.options;
    own.eye = eye;
    // A view takes off margins of its own, and the legend, which stands but once.
    own.width =
        (across - 2 * margin - static_cast<int>(columns - 1) * gap) / static_cast<int>(columns) + 2 * margin + legend;
    views.emplace_back(scene.box, scene.range, own);
  }
  draw_all(file, described, scene, views, progress);
  const int above = options.title.empty() ? 0 : heading, on_each = n == 1 ? 0 : caption;
  std::vector<int> tops = {margin + above}, widths(columns, 0);
  for (std::size_t i = 0; i < n; i += columns) {
    int tallest = 0;
    for (std::size_t k = i; k < std::min(n, i + columns); ++k)
      tallest = std::max(tallest, views[k].height()), widths[k - i] = std::max(widths[k - i], views[k].width());
    tops.push_back(tops.back() + tallest + on_each + (i + columns < n ? gap : 0));
  }
  std::vector<int> lefts = {margin};
  for (const int w : widths) lefts.push_back(lefts.back() + w + gap);
  const int pictures = lefts.back() - gap;
  Canvas canvas(pictures + margin + legend, tops.back() + margin);
  if (above > 0) canvas.text({margin, margin + 12}, options.title, 14);
  for (std::size_t i = 0; i < n; ++i) {
    const double x = lefts[i % columns], y = tops[i / columns];
    if (on_each > 0) canvas.text({x, y + 12}, options.eyes[i].words(), 13);
    views[i].draw(canvas, x, y + on_each);
  }
  draw_legend(canvas, pictures + 18, margin + above + 20, options.view.shown, scene.range, scene.classes,
              scene.options.unit);
  return canvas.drawing();
}

std::string cloud_figure(cloud::LasReader& file, const cloud::Description& described, const CloudView::Options& options,
                         Progress& progress) {
  return cloud_sheet(file, described, {options, {options.eye}, {}}, progress);
}

std::vector<Eye> flight_of(const std::vector<Eye>& places, int frames) {
  std::vector<Eye> out;
  for (int i = 0; i < frames; ++i) {
    if (places.size() == 1) {
      const double azimuth = places[0].azimuth_deg + 360.0 * i / frames;
      out.push_back({std::fmod(azimuth, 360), places[0].rise_deg});
      continue;
    }
    const double at = frames < 2 ? 0 : static_cast<double>(i) / (frames - 1) * static_cast<double>(places.size() - 1);
    const std::size_t k = std::min(static_cast<std::size_t>(at), places.size() - 2);
    const double t = at - static_cast<double>(k),
                 turn = std::remainder(places[k + 1].azimuth_deg - places[k].azimuth_deg, 360);
    out.push_back(
        {places[k].azimuth_deg + t * turn, places[k].rise_deg + t * (places[k + 1].rise_deg - places[k].rise_deg)});
  }
  return out;
}

void fly(cloud::LasReader& file, const cloud::Description& described, CloudView::Options options,
         const std::vector<Eye>& flight, const std::function<void(std::size_t, const std::string&)>& keep,
         Progress& progress) {
  // Even numbers: films are made of them.
  if (options.height == 0) options.height = options.width * 9 / 16;
  options.width += options.width % 2, options.height += options.height % 2;
  Scene scene = scene_of(file, described, options, progress);
  // The whole site stays in every picture, at one scale.
  double scale = INFINITY;
  for (const Eye& eye : flight) {
    scene.options.eye = eye;
    scale = std::min(scale, CloudView(scene.box, scene.range, scene.options).scale());
  }
  scene.options.scale = scale;
  constexpr std::size_t at_once = 12;
  for (std::size_t begin = 0; begin < flight.size(); begin += at_once) {
    std::vector<CloudView> views;
    for (std::size_t i = begin; i < std::min(flight.size(), begin + at_once); ++i) {
      scene.options.eye = flight[i];
      views.emplace_back(scene.box, scene.range, scene.options);
    }
    draw_all(file, described, scene, views, progress);
    std::vector<std::string> pngs(views.size());
    parallel_for(views.size(), [&](std::size_t i) { pngs[i] = views[i].png(scene.classes); });
    for (std::size_t i = 0; i < pngs.size(); ++i) keep(begin + i, pngs[i]);
  }
}

std::string section_figure(const std::vector<cloud::SectionPoint>& points, double length,
                           const SectionOptions& options) {
  double low = INFINITY, high = -INFINITY, worst = 0;
  std::vector<double> sigmas;
  for (const cloud::SectionPoint& p : points) {
    low = std::min(low, p.height), high = std::max(high, p.height);
    if (std::isfinite(p.sigma)) sigmas.push_back(p.sigma);
  }
  if (!sigmas.empty()) {
    const auto at = sigmas.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(sigmas.size() - 1));
    std::nth_element(sigmas.begin(), at, sigmas.end());
    worst = *at;
  }
  const double pad = std::max(0.02 * length, 0.08 * (high - low));
  constexpr int width = 1280;
  const int beside = std::max(20, legend_width_of(options.shown));
  constexpr double left = 74, below = 46, top = 40;
  const double scale = (width - left - beside) / length;
  const double wanted = (high - low + 2 * pad) * scale * options.exaggeration;
  const int height = static_cast<int>(std::clamp(wanted, 240.0, 900.0) + below + top);
  Canvas canvas(width, height);
  const double middle = 0.5 * (low + high), half = 0.5 * (height - below - top) / (scale * options.exaggeration);
  const ChartFrame frame(canvas, {0, length, fmt::format("along the section, {}", options.unit)},
                         {middle - half, middle + half, fmt::format("height, {}", options.unit)}, beside, top);
  const std::pair<double, double> range = options.shown == Shown::height ? std::pair(low, high) : std::pair(0.0, worst);
  std::vector<int> classes;
  for (const cloud::SectionPoint& p : points) {
    const double value = options.shown == Shown::height  ? p.height
                         : options.shown == Shown::sigma ? p.sigma
                                                         : p.point_class;
    canvas.disc(frame.at(p.along, p.height), 1.1, colour_of(options.shown, p.colour, value, range));
    if (std::find(classes.begin(), classes.end(), p.point_class) == classes.end()) classes.push_back(p.point_class);
  }
  std::sort(classes.begin(), classes.end());
  const bool stretched = options.exaggeration != 1;
  canvas.text({left, 24},
              stretched ? fmt::format("{}, heights times {:g}", options.title, options.exaggeration) : options.title,
              14);
  draw_legend(canvas, width - beside + 18, top + 14, options.shown, range, classes, options.unit);
  return canvas.png();
}

}  // namespace mesograph::draw
