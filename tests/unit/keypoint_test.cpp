#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/keypoint/extrema.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/keypoint/scale_space.hpp>
#include <mesograph/keypoint/working_scale.hpp>
#include <mesograph/match/descriptor_match.hpp>

using namespace mesograph;

namespace {

/// Blobs with known centres on a slope: an image whose every keypoint is known by construction.
struct Blob {
  double x, y, sigma, height;
};

photo::Grey draw(const std::vector<Blob>& blobs, int width, int height) {
  photo::Grey image(width, height);
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col) {
      double value = 100 + 0.02 * col;
      for (const Blob& b : blobs) {
        const double r2 = std::pow(col + 0.5 - b.x, 2) + std::pow(row + 0.5 - b.y, 2);
        if (r2 < 36 * b.sigma * b.sigma) value += b.height * std::exp(-0.5 * r2 / (b.sigma * b.sigma));
      }
      image.at(col, row) = static_cast<float>(value);
    }
  return image;
}

/// Ground texture as a sum of random waves, so that it can be drawn turned, scaled and lit otherwise, exactly.
struct Waves {
  struct Wave {
    double kx, ky, phase, size;
  };
  std::vector<Wave> waves;
  explicit Waves(std::uint64_t seed) {
    Random random(seed);
    for (int i = 0; i < 260; ++i) {
      const double length = 4 * std::pow(12.0, random.uniform(0, 1)), direction = random.uniform(0, 2 * pi);
      waves.push_back({2 * pi / length * std::cos(direction), 2 * pi / length * std::sin(direction),
                       random.uniform(0, 2 * pi), 0.7 * std::sqrt(length)});
    }
  }
  double at(double x, double y) const {
    double value = 120;
    for (const Wave& w : waves) value += w.size * std::sin(w.kx * x + w.ky * y + w.phase);
    return value;
  }
  /// Pixel (x, y) of the image shows the ground at A (x, y) + t.
  photo::Grey draw(int width, int height, double angle, double scale, double tx, double ty, double gain, double noise,
                   std::uint64_t seed) const {
    photo::Grey image(width, height);
    Random random(seed);
    for (int row = 0; row < height; ++row)
      for (int col = 0; col < width; ++col) {
        const double x = col + 0.5, y = row + 0.5;
        const double gx = scale * (std::cos(angle) * x - std::sin(angle) * y) + tx,
                     gy = scale * (std::sin(angle) * x + std::cos(angle) * y) + ty;
        image.at(col, row) = static_cast<float>(gain * at(gx, gy) + random.normal(noise));
      }
    return image;
  }
};

/// All rows of a first level.
photo::Grey whole(keypoint::FirstLevel level) {
  photo::Grey out(level.width, level.height);
  for (int row = 0; row < out.height; ++row) level.next(&out.at(0, row));
  return out;
}

}  // namespace

TEST_CASE("Blobs are found at their centres, at their scales, in pixel coordinates of the corner") {
  const std::vector<Blob> blobs = {
      {40.3, 50.7, 2.5, 60}, {120.5, 44.1, 4.0, 70}, {75.9, 110.2, 4.6, -50}, {180.25, 120.75, 3.0, -60}};
  const keypoint::Keypoints found = keypoint::detect(draw(blobs, 240, 160));
  for (const Blob& b : blobs) {
    double nearest = 1e9, scale = 0;
    for (const keypoint::Keypoint& k : found.points) {
      const double d = std::hypot(k.x - b.x, k.y - b.y);
      if (d < nearest) nearest = d, scale = k.scale;
    }
    INFO("blob at " << b.x << ", " << b.y << " nearest " << nearest << " scale " << scale);
    // A parabola through samples of a Gaussian is off by a few hundredths of the octave's pixel, which grows with
    // scale.
    CHECK(nearest < 0.04 * b.sigma);
    // The difference of Gaussians of a blob is largest near its own sigma (less half a pixel that photos are taken to
    // have).
    CHECK(scale / b.sigma > 0.75);
    CHECK(scale / b.sigma < 1.35);
  }
}

TEST_CASE("Turned, shrunk, darker and noisy: the same places match") {
  const Waves ground(21);
  const double angle = 0.6, scale = 1.25, tx = 60, ty = -20;
  const keypoint::Keypoints a = keypoint::detect(ground.draw(320, 240, 0, 1, 0, 0, 1.0, 1.0, 1));
  const keypoint::Keypoints b = keypoint::detect(ground.draw(320, 240, angle, scale, tx, ty, 0.8, 1.0, 2));
  const auto matches = match::match(a, b);
  REQUIRE(matches.size() > 40);
  std::vector<double> off;
  int right = 0;
  for (const match::Match& m : matches) {
    const keypoint::Keypoint &ka = a.points[m.a], &kb = b.points[m.b];
    const double x = scale * (std::cos(angle) * kb.x - std::sin(angle) * kb.y) + tx,
                 y = scale * (std::sin(angle) * kb.x + std::cos(angle) * kb.y) + ty;
    const double d = std::hypot(ka.x - x, ka.y - y);
    right += d < 3;
    off.push_back(d);
    if (d >= 3) continue;
    // Angles differ by the turn, up to the half-width of a histogram bin.
    const double turn = std::remainder(ka.angle - kb.angle - angle, 2 * pi);
    CHECK(std::abs(turn) < 0.5);
  }
  std::sort(off.begin(), off.end());
  INFO(matches.size() << " matches, " << right << " right, median miss " << off[off.size() / 2]);
  CHECK(right >= 0.95 * static_cast<double>(matches.size()));
  CHECK(off[off.size() / 2] < 0.35);  // two localisations of 0.2 px
}

TEST_CASE("Unrelated ground hardly matches") {
  const keypoint::Keypoints a = keypoint::detect(Waves(22).draw(320, 240, 0, 1, 0, 0, 1, 1, 1));
  const keypoint::Keypoints b = keypoint::detect(Waves(23).draw(320, 240, 0, 1, 0, 0, 1, 1, 2));
  CHECK(static_cast<double>(match::match(a, b).size()) < 0.03 * static_cast<double>(a.points.size()));
}

TEST_CASE("The limit holds and spreads the points over the photo") {
  // One corner has ten times the contrast of the rest.
  photo::Grey image = Waves(24).draw(420, 420, 0, 1, 0, 0, 0.25, 0, 1);
  const photo::Grey strong = Waves(24).draw(420, 420, 0, 1, 0, 0, 1.6, 0, 1);
  for (int row = 0; row < 140; ++row)
    for (int col = 0; col < 140; ++col) image.at(col, row) = strong.at(col, row);
  keypoint::DetectOptions options;
  options.limit = 200;
  const keypoint::Keypoints found = keypoint::detect(image, options);
  CHECK(found.points.size() == 200);
  const auto in_corner =
      std::count_if(found.points.begin(), found.points.end(), [](const auto& k) { return k.x < 140 && k.y < 140; });
  // A sixth of the places is dealt out evenly; the corner is a ninth of the area, so 8/9 of that sixth are
  // elsewhere, but for what the coarse cells along the corner's edge take.
  CHECK(200 - in_corner >= 20);
  CHECK(in_corner >= 140);
  CHECK(found.descriptors.size() == found.points.size() * keypoint::descriptor_size);
}

TEST_CASE("A large photo is searched smaller and located again in full") {
  const std::vector<Blob> blobs = {{60.3, 70.7, 4.5, 60}, {180.6, 64.1, 6.0, 70}, {90.9, 150.2, 5.0, -50}};
  const photo::Grey image = draw(blobs, 240, 200);
  keypoint::DetectOptions options;
  options.double_below = 0;
  options.halve_above = 20000;  // 48000 pixels: searched at half the size
  const auto miss = [&](const std::vector<keypoint::Keypoint>& found, const Blob& b) {
    double nearest = 1e9;
    for (const auto& k : found) nearest = std::min(nearest, std::hypot<double>(k.x - b.x, k.y - b.y));
    return nearest;
  };
  REQUIRE(keypoint::working_scale(240, 200, options).halvings == 1);
  REQUIRE(keypoint::working_scale(500, 200, options).pixel == 4);
  const auto found = keypoint::detect(image, options).points;
  // In the full photo a blob spans ten pixels or more: the parabola is good to a hundredth of a pixel, the slope of the
  // ground moves the extremum by less.
  for (const Blob& b : blobs) CHECK(miss(found, b) < 0.03);
}

TEST_CASE("Turning the photo by quarters turns the keypoints with it, without a bias") {
  const int n = 260;
  const photo::Grey image = Waves(31).draw(n, n, 0, 1, 0, 0, 1, 0.5, 1);
  photo::Grey turned(n, n);  // by half a turn: pixel (c, r) goes to (n - 1 - c, n - 1 - r)
  for (int row = 0; row < n; ++row)
    for (int col = 0; col < n; ++col) turned.at(n - 1 - col, n - 1 - row) = image.at(col, row);
  for (const double double_below : {0.0, 1e6}) {  // as it is, and doubled
    keypoint::DetectOptions options;
    options.double_below = double_below;
    const keypoint::Keypoints a = keypoint::detect(image, options), b = keypoint::detect(turned, options);
    double x = 0, y = 0;
    int count = 0;
    for (const match::Match& m : match::match(a, b)) {
      const double dx = a.points[m.a].x - (n - b.points[m.b].x), dy = a.points[m.a].y - (n - b.points[m.b].y);
      if (std::hypot(dx, dy) > 2) continue;  // another place
      x += dx, y += dy, ++count;
    }
    REQUIRE(count > 100);
    x /= count, y /= count;
    // Half a pixel of a wrong origin would show as 1. Single points differ by some hundredths where the fit moved on.
    CHECK(std::hypot(x, y) < 0.02);
  }
}

TEST_CASE("The sweep's differences are those of whole blurred images") {
  const photo::Grey image = Waves(32).draw(91, 61, 0, 1, 0, 0, 1, 1, 1);
  std::vector<photo::Grey> levels = {image};
  for (int i = 1; i < keypoint::gaussians; ++i) {
    const double before = keypoint::base_sigma * std::pow(2.0, (i - 1) / 3.0),
                 after = keypoint::base_sigma * std::pow(2.0, i / 3.0);
    levels.push_back(whole(keypoint::blurred(levels.back(), std::sqrt(after * after - before * before))));
  }
  for (const int thinning : {1, 2}) {
    int rows = 0;
    double worst = 0;
    const auto see = [&](int row, const keypoint::DifferenceRows& d) {
      CHECK(row == rows++);
      for (int l = 0; l < keypoint::differences; ++l)
        for (int r = std::max(0, row - keypoint::DifferenceRows::kept + 1); r <= row; ++r)
          for (int col = 0; col < image.width; ++col)
            worst =
                std::max<double>(worst, std::abs(d.at(l, col, r) - (levels[l + 1].at(col, r) - levels[l].at(col, r))));
    };
    const keypoint::Octave octave = keypoint::sweep(keypoint::every(image, 1), thinning, see);
    CHECK(rows == image.height);
    CHECK(worst == 0);  // the same sums in the same order
    for (int l = 1; l <= keypoint::scales_per_octave; ++l) {
      const photo::Grey& level = octave.gaussian(l);
      CHECK(level.width == (image.width + thinning - 1) / thinning);
      for (int row = 0; row < level.height; ++row)
        for (int col = 0; col < level.width; ++col)
          REQUIRE(level.at(col, row) == levels[l].at(thinning * col, thinning * row));
    }
  }
}

TEST_CASE("Doubled, a slope keeps its values in image coordinates") {
  photo::Grey slope(30, 20);
  const auto value = [](double x, double y) { return 50 + 3 * x - 2 * y; };
  for (int row = 0; row < slope.height; ++row)
    for (int col = 0; col < slope.width; ++col) slope.at(col, row) = static_cast<float>(value(col + 0.5, row + 0.5));
  const photo::Grey twice = whole(keypoint::doubled(slope, 0.7));
  REQUIRE(twice.width == 60);
  REQUIRE(twice.height == 40);
  // A symmetric blur leaves a slope as it is; at the edges, where pixels are repeated, it does not.
  for (int row = 4; row < 36; ++row)
    for (int col = 4; col < 56; ++col)
      REQUIRE(std::abs(twice.at(col, row) - value((col + 0.5) / 2, (row + 0.5) / 2)) < 1e-4);
}

TEST_CASE("Extrema are those a plain search over all 26 neighbours finds") {
  photo::Grey image(640, 480);
  Random random(33);
  for (float& v : image.data) v = static_cast<float>(120 + random.normal(30));
  std::vector<std::vector<float>> d(keypoint::differences, std::vector<float>(image.data.size()));
  keypoint::sweep(keypoint::blurred(image, 1.2), 1, [&](int row, const keypoint::DifferenceRows& rows) {
    for (int l = 0; l < keypoint::differences; ++l)
      std::copy_n(rows.level[l].row(row), image.width, &d[l][static_cast<std::size_t>(row) * image.width]);
  });
  const auto at = [&](int l, int col, int row) { return d[l][static_cast<std::size_t>(row) * image.width + col]; };
  keypoint::DetectOptions options;
  options.contrast = 0;
  options.edge_ratio = 1e9;
  std::vector<keypoint::Extremum> found;
  keypoint::find_extrema(keypoint::blurred(image, 1.2), 1, 0, options, found);
  int extrema = 0, missing = 0;
  for (int l = 1; l <= keypoint::scales_per_octave; ++l)
    for (int row = 8; row < image.height - 8; ++row)
      for (int col = 8; col < image.width - 8; ++col) {
        int higher = 0, lower = 0;
        for (int k = 0; k < 27; ++k) {
          const float other = at(l + k / 9 - 1, col + k % 3 - 1, row + k / 3 % 3 - 1);
          higher += other > at(l, col, row), lower += other < at(l, col, row);
        }
        if ((higher != 0 || at(l, col, row) <= 0) && (lower != 0 || at(l, col, row) >= 0)) continue;
        ++extrema;
        // The fit may move on by a pixel, and does by two where a ridge is nearly level.
        missing += std::none_of(found.begin(), found.end(), [&](const keypoint::Extremum& e) {
          return std::hypot(e.col - col, e.row - row) < 2.5 && std::abs(e.level - l) <= 1;
        });
      }
  REQUIRE(extrema > 40);
  CHECK(missing <= extrema / 10);  // fits that lead out of the octave's scales, or are saddles
  CHECK(found.size() <= static_cast<std::size_t>(1.6 * extrema));  // found also where the search above does not look
}

TEST_CASE("A flat or tiny photo has no keypoints") {
  CHECK(keypoint::detect(photo::Grey(200, 200, 1, 90.0f)).points.empty());
  CHECK(keypoint::detect(photo::Grey(8, 8, 1, 90.0f)).points.empty());
}

TEST_CASE("Blur agrees with the plain double sum") {
  Random random(3);
  photo::Grey image(23, 17);
  for (float& v : image.data) v = static_cast<float>(random.uniform(0, 255));
  const double sigma = 1.7;
  const photo::Grey fast = whole(keypoint::blurred(image, sigma));
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      double sum = 0, weights = 0;
      for (int dr = -6; dr <= 6; ++dr)  // 3.5 sigma, as documented
        for (int dc = -6; dc <= 6; ++dc) {
          const double w = std::exp(-0.5 * (dr * dr + dc * dc) / (sigma * sigma));
          sum += w * image.at(std::clamp(col + dc, 0, image.width - 1), std::clamp(row + dr, 0, image.height - 1));
          weights += w;
        }
      CHECK(std::abs(fast.at(col, row) - sum / weights) < 2e-3);  // float sums of 255 over 15 terms twice
    }
}

TEST_CASE("The same photo gives the same bytes") {
  const photo::Grey image = Waves(25).draw(200, 150, 0, 1, 0, 0, 1, 1, 1);
  const keypoint::Keypoints a = keypoint::detect(image), b = keypoint::detect(image);
  CHECK(a.descriptors == b.descriptors);
}
