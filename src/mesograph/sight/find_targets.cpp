#include <algorithm>
#include <cmath>
#include <mesograph/keypoint/scale_space.hpp>
#include <mesograph/sight/target_start.hpp>
#include <set>

namespace mesograph::sight {

namespace {

/// A part of an image at a reduced size: pixel (0, 0) begins at `origin` of the whole, its pixels are `scale` wide.
struct Level {
  photo::Grey grey;
  Eigen::Vector2d origin = Eigen::Vector2d::Zero();
  double scale = 1;
  Eigen::Vector2d whole(const Eigen::Vector2d& x) const { return origin + scale * x; }
};

Level cut(const photo::Grey& image, const Eigen::AlignedBox2d& box, double margin) {
  const auto bound = [](double v, int size) { return std::clamp(static_cast<int>(std::floor(v)), 0, size); };
  const int left = bound(box.min().x() - margin, image.width), top = bound(box.min().y() - margin, image.height);
  const int right = bound(box.max().x() + margin + 1, image.width),
            bottom = bound(box.max().y() + margin + 1, image.height);
  Level out{photo::Grey(std::max(0, right - left), std::max(0, bottom - top)), Eigen::Vector2d(left, top), 1};
  for (int row = top; row < bottom; ++row)
    std::copy_n(&image.at(left, row), out.grey.width, &out.grey.at(0, row - top));
  return out;
}

Level halved(const Level& level) {
  Level out{photo::Grey(level.grey.width / 2, level.grey.height / 2), level.origin, 2 * level.scale};
  for (int row = 0; row < out.grey.height; ++row)
    for (int col = 0; col < out.grey.width; ++col)
      out.grey.at(col, row) = 0.25f * (level.grey.at(2 * col, 2 * row) + level.grey.at(2 * col + 1, 2 * row) +
                                       level.grey.at(2 * col, 2 * row + 1) + level.grey.at(2 * col + 1, 2 * row + 1));
  return out;
}

photo::Grey smoothed(const photo::Grey& image, double sigma) {
  const keypoint::FirstLevel rows = keypoint::blurred(image, sigma);
  photo::Grey out(image.width, image.height);
  for (int row = 0; row < out.height; ++row) rows.next(&out.at(0, row));
  return out;
}

/// A place where a target may be: where the grey values curve the one way and the other (saddle), or one way (blob).
struct Place {
  Eigen::Vector2d x;
  bool saddle = false;
  float strength = 0;  ///< size of the curvature
};

/// Determinant of the second derivatives times sigma^4: negative at saddles, positive at blobs; both of the square of
/// the contrast.
photo::Grey curvature(const photo::Grey& g, double sigma) {
  photo::Grey out(g.width, g.height);
  const auto s4 = static_cast<float>(std::pow(sigma, 4));
  for (int row = 1; row + 1 < g.height; ++row)
    for (int col = 1; col + 1 < g.width; ++col) {
      const float v = 2 * g.at(col, row);
      const float xx = g.at(col - 1, row) + g.at(col + 1, row) - v, yy = g.at(col, row - 1) + g.at(col, row + 1) - v;
      const float xy =
          0.25f * (g.at(col + 1, row + 1) + g.at(col - 1, row - 1) - g.at(col + 1, row - 1) - g.at(col - 1, row + 1));
      out.at(col, row) = s4 * (xx * yy - xy * xy);
    }
  return out;
}

/// Extrema of the curvature over 3 x 3 pixels whose size is at least `least`, inside `box` of the whole image.
void add_places(const Level& level, double sigma, double least, const Eigen::AlignedBox2d& box, bool saddles,
                bool blobs, std::vector<Place>& out) {
  const photo::Grey k = curvature(smoothed(level.grey, sigma), sigma);
  for (int row = 2; row + 2 < k.height; ++row)
    for (int col = 2; col + 2 < k.width; ++col) {
      const float v = k.at(col, row);
      if ((v < 0 ? !saddles : !blobs) || std::abs(v) < least) continue;
      bool extreme = true;
      for (int i = 0; i < 9 && extreme; ++i) {
        const float other = k.at(col + i % 3 - 1, row + i / 3 - 1);
        extreme = i == 4 || (v < 0 ? other >= v : other <= v);
      }
      const Eigen::Vector2d x(col + 0.5, row + 0.5), whole = level.whole(x);
      const double slack = level.scale;
      if (extreme && (whole.array() > box.min().array() - slack).all() &&
          (whole.array() < box.max().array() + slack).all())
        out.push_back({x, v < 0, std::abs(v)});
    }
}

/// The strongest of saddles and of blobs, so many each, in the order in which they were.
void keep_strongest(std::vector<Place>& places, std::size_t most) {
  for (const bool saddles : {true, false}) {
    std::vector<float> strengths;
    for (const Place& p : places)
      if (p.saddle == saddles) strengths.push_back(p.strength);
    if (strengths.size() <= most) continue;
    std::nth_element(strengths.begin(), strengths.end() - static_cast<std::ptrdiff_t>(most), strengths.end());
    const float least = strengths[strengths.size() - most];
    std::erase_if(places, [&](const Place& p) { return p.saddle == saddles && p.strength < least; });
  }
}

TargetShape at_full_size(TargetShape start, const Level& level) {
  start.x = level.whole(start.x);
  start.radius *= level.scale;
  start.window *= level.scale;
  start.half_width *= level.scale;
  start.margin *= level.scale;
  start.M /= level.scale;
  return start;
}

TargetOptions at_level(TargetOptions options, const Level& level) {
  options.view.g *= level.scale;
  options.view.M *= level.scale;
  options.view.c /= level.scale;
  return options;
}

/// Starts that have been tried: the same paint stands out in several places and scales.
class Tried {
 public:
  /// False where the same has been asked before at that scale, to half a pixel of it and an eighth of the size.
  bool is_new(TargetKind kind, const TargetShape& start, double scale) {
    const auto cell = [](double v) { return static_cast<int>(std::floor(v)); };
    return all_
        .insert({static_cast<int>(kind), cell(scale), cell(2 * start.x.x()), cell(2 * start.x.y()),
                 cell(8 * std::log(start.radius))})
        .second;
  }

 private:
  std::set<std::array<int, 5>> all_;
};

double least_fit_of(TargetKind kind, const TargetOptions& o) {
  if (kind == TargetKind::disc) return o.least_disc_fit;
  return kind == TargetKind::ring || kind == TargetKind::bullseye ? o.least_ring_fit : o.least_fit;
}

/// Fits the kinds that may be at a place of a level, and keeps what passes.
void try_place(const photo::Grey& image, const Level& level, const Place& place, double radius,
               const Eigen::AlignedBox2d& box, const TargetOptions& options, Tried& tried, std::vector<Target>& out) {
  const Eigen::Vector2d whole = level.whole(place.x);
  // A disc may be the inside of a ring: that is looked for all the same.
  const auto known = [&](TargetKind kind) {
    return std::any_of(out.begin(), out.end(), [&](const Target& t) {
      return t.fit > 0.97 && (t.x - whole).norm() < 0.35 * t.size_px && t.size_px > 1.3 * radius * level.scale &&
             !(t.kind == TargetKind::disc && (kind == TargetKind::ring || kind == TargetKind::bullseye));
    });
  };
  Starts starts(level.grey, place.x, radius, image_from_plane(options.view), 0.7 * options.least_contrast);
  for (const TargetKind kind : options.kinds) {
    if ((kind == TargetKind::checker) != place.saddle || known(kind)) continue;
    const auto start = starts.of(kind);
    if (!start || !tried.is_new(kind, *start, level.scale)) continue;
    // On the reduced level first, where a large target has few pixels: most places fail there.
    const double least = least_fit_of(kind, options);
    if (level.scale > 1 && !may_fit(level.grey, kind, *start, at_level(options, level), least - 0.06)) continue;
    const auto fitted = fit_from(image, kind, at_full_size(*start, level), options, least);
    if (fitted && acceptable(*fitted, options) && box.contains(fitted->x)) out.push_back(*fitted);
  }
}

}  // namespace

bool acceptable(const Target& t, const TargetOptions& o) {
  return t.fit >= least_fit_of(t.kind, o) && t.contrast >= o.least_contrast && t.size_px >= o.least_size_px &&
         t.size_px <= o.most_size_px && t.sigma() <= o.most_sigma_px && t.strain <= o.most_strain &&
         !(t.lopsided > o.most_lopsided);
}

std::vector<Target> find_targets(const photo::Grey& image, const Eigen::AlignedBox2d& box,
                                 const TargetOptions& options) {
  const auto wants = [&](bool checker) {
    return std::any_of(options.kinds.begin(), options.kinds.end(),
                       [&](TargetKind k) { return (k == TargetKind::checker) == checker; });
  };
  // Each octave looks for diameters of 5 to 13 of its own pixels.
  std::vector<Target> all;
  Tried tried;
  Level level = cut(image, box, 0.75 * options.most_size_px);
  // Of targets of nine pixels and more the first octave shows what the whole size would, at a quarter of its cost.
  // But a corner's size is that of its arms, and what shows is where their strips meet.
  const bool corners = std::find(options.kinds.begin(), options.kinds.end(), TargetKind::corner) != options.kinds.end();
  if (options.only_large || (options.least_size_px >= 9 && !corners)) level = halved(level);
  const double finest = level.scale;
  // What stands out of a corner is its elbow, beside the point.
  Eigen::AlignedBox2d blob_box = box;
  if (corners)
    blob_box.min().array() -= 0.15 * options.most_size_px, blob_box.max().array() += 0.15 * options.most_size_px;
  while (level.grey.width > 8 && level.grey.height > 8 && 5 * level.scale <= options.most_size_px) {
    // Of a checker's crossing the curvature comes to 0.32 of its contrast, of a disc to 0.35, where nothing blurs them.
    const double least = std::pow(0.18 * options.least_contrast, 2);
    for (const double radius : {2.8, 4.0, 5.6}) {
      if (radius < 3 && level.scale > finest) continue;  // the octave before has looked at these
      std::vector<Place> places;
      add_places(level, 0.36 * radius, least, box, wants(true), false, places);
      add_places(level, 0.6 * radius, least, blob_box, false, wants(false), places);
      if (std::isfinite(options.most_places_mp)) {
        const double area = box.sizes().prod() / (level.scale * level.scale);  // pixels of the level
        keep_strongest(places, static_cast<std::size_t>(6 + 1e-6 * area * options.most_places_mp));
      }
      for (const Place& place : places) try_place(image, level, place, radius, box, options, tried, all);
    }
    level = halved(level);
  }
  // Of two around the same point the larger one is the target: a ring's dark inside is a disc too.
  std::stable_sort(all.begin(), all.end(), [](const Target& a, const Target& b) { return a.fit > b.fit; });
  for (Target& inner : all)
    for (const Target& outer : all)
      if (outer.size_px > 1.3 * inner.size_px && (outer.x - inner.x).norm() < 0.15 * inner.size_px) inner = outer;
  std::vector<Target> out;
  for (const Target& t : all)
    if (std::none_of(out.begin(), out.end(), [&](const Target& kept) {
          return (kept.x - t.x).norm() < 0.5 * std::max(kept.size_px, t.size_px);
        }))
      out.push_back(t);
  return out;
}

std::optional<Target> fit_target(const photo::Grey& image, TargetKind kind, const Eigen::Vector2d& near, double size_px,
                                 const TargetOptions& options) {
  const auto start =
      Starts(image, near, 0.5 * size_px, image_from_plane(options.view), 0.5 * options.least_contrast).of(kind);
  return start ? fit_from(image, kind, *start, options) : std::nullopt;
}

}  // namespace mesograph::sight
