// A depth map of ours beside a general vision library's semi-global matcher with eight paths, on a drawn pair whose
// truth is known: the same pixels, the same run, one thread each, CPU seconds, five times in turn. Built by
// scripts/bench --yardsticks alone.
#include <fmt/core.h>
#include <time.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <opencv2/calib3d.hpp>
#include <opencv2/core.hpp>

using namespace mesograph;

namespace {

constexpr int width = 1400, height = 1000;
constexpr double c = 1300, base = 0.22;  // m

double cpu_seconds() {
  timespec now{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &now);
  return static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec);
}

/// Smooth random grey levels over a surface, five octaves.
double texture(double u, double v, int seed) {
  const auto corner = [&](int i, int j, int octave) {
    std::uint64_t h = static_cast<std::uint64_t>(i) * 0x9E3779B97F4A7C15u ^
                      static_cast<std::uint64_t>(j) * 0xC2B2AE3D27D4EB4Fu ^
                      static_cast<std::uint64_t>(seed * 31 + octave) * 0x165667B19E3779F9u;
    h ^= h >> 29, h *= 0xBF58476D1CE4E5B9u, h ^= h >> 32;
    return static_cast<double>(h & 0xFFFF) / 32768.0 - 1;
  };
  double out = 0;
  const double sizes[] = {1, 2.3, 5.1, 11.7, 27}, levels[] = {20, 22, 24, 22, 18};
  for (int o = 0; o < 5; ++o) {
    const double x = 4 * u * sizes[o], y = 4 * v * sizes[o];
    const int i = static_cast<int>(std::floor(x)), j = static_cast<int>(std::floor(y));
    double fx = x - i, fy = y - j;
    fx *= fx * (3 - 2 * fx), fy *= fy * (3 - 2 * fy);
    out += levels[o] * ((corner(i, j, o) * (1 - fx) + corner(i + 1, j, o) * fx) * (1 - fy) +
                        (corner(i, j + 1, o) * (1 - fx) + corner(i + 1, j + 1, o) * fx) * fy);
  }
  return out;
}

/// A board in space: a corner of its middle, two edges of unit length, half sizes.
struct Board {
  Eigen::Vector3d middle, across, up;
  double half_width, half_height;
  int seed;
};

std::vector<Board> scene() {
  std::vector<Board> out;
  const auto add = [&](Eigen::Vector3d at, Eigen::Vector3d across, Eigen::Vector3d up, double w, double h) {
    across.normalize();
    up = (up - across * across.dot(up)).normalized();
    out.push_back({at, across, up, w, h, static_cast<int>(out.size()) + 1});
  };
  add({0, 0, -6}, {1, 0, 0.12}, {0, 1, 0}, 9, 9);
  add({0, -1.6, -4}, {1, 0, 0}, {0, 0.25, -1}, 9, 3.2);
  add({-1.1, -0.2, -3.6}, {1, 0, -0.3}, {0, 1, 0}, 0.5, 0.9);
  add({0.9, 0.1, -3}, {1, 0, 0.5}, {0, 1, 0.1}, 0.45, 0.6);
  for (int k = 0; k < 9; ++k) add({-2 + 0.35 * k, 0.9, -4.6}, {1, 0, 0}, {0.1, 1, 0}, 0.04, 0.5);
  return out;
}

dense::View draw(double x, std::uint64_t seed, photo::Raster<float>& depth) {
  dense::Pinhole p;
  p.width = width, p.height = height, p.c = c, p.x0 = width / 2.0, p.y0 = height / 2.0;
  p.C = {x, 0, 0};
  dense::View view{p, photo::Grey(width, height)};
  depth = photo::Raster<float>(width, height, 1, 1e9f);
  Random random(seed);
  const std::vector<Board> boards = scene();
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col) {
      const Eigen::Vector3d d((col + 0.5 - p.x0) / c, -(row + 0.5 - p.y0) / c, -1);
      double level = 0;
      for (const Board& b : boards) {
        const Eigen::Vector3d n(b.across.y() * b.up.z() - b.across.z() * b.up.y(),
                                b.across.z() * b.up.x() - b.across.x() * b.up.z(),
                                b.across.x() * b.up.y() - b.across.y() * b.up.x());
        const double t = (b.middle - p.C).dot(n) / d.dot(n);
        const Eigen::Vector3d at = p.C + t * d - b.middle;
        const double u = at.dot(b.across), v = at.dot(b.up);
        if (t <= 0 || t >= depth.at(col, row) || std::abs(u) > b.half_width || std::abs(v) > b.half_height) continue;
        depth.at(col, row) = static_cast<float>(t);
        level = 120 + texture(u, v, b.seed);
      }
      view.image.at(col, row) = static_cast<float>(std::clamp(std::round(level + random.normal(1.5)), 1.0, 254.0));
    }
  return view;
}

/// Disparities that differ from the truth by more than a pixel, and those that are missing, of what both photos see.
void judge(const char* name, double seconds, const photo::Raster<float>& found, const photo::Raster<float>& left,
           const photo::Raster<float>& right) {
  int visible = 0, bad = 0, empty = 0;
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col) {
      const double d = c * base / left.at(col, row), other = col - d;
      if (other < 0 || std::abs(c * base / right.at(static_cast<int>(std::lround(other)), row) - d) > 1) continue;
      ++visible;
      const float f = found.at(col, row);
      if (!std::isfinite(f))
        ++empty;
      else
        bad += std::abs(f - d) > 1;
    }
  fmt::print("{:<22} {:6.2f} CPU s   off by more than 1 px {:5.2f} %   empty {:5.2f} %\n", name, seconds,
             100.0 * bad / visible, 100.0 * empty / visible);
}

cv::Mat to_mat(const photo::Grey& image) {
  cv::Mat out(height, width, CV_8U);
  for (int r = 0; r < height; ++r)
    for (int k = 0; k < width; ++k) out.at<std::uint8_t>(r, k) = static_cast<std::uint8_t>(image.at(k, r));
  return out;
}

photo::Raster<float> theirs(const cv::Mat& left, const cv::Mat& right) {
  constexpr int block = 5;
  const auto matcher = cv::StereoSGBM::create(0, 112, block, 8 * block * block, 32 * block * block, 1, 0, 10, 100, 2,
                                              cv::StereoSGBM::MODE_HH);
  cv::Mat found;
  matcher->compute(left, right, found);
  photo::Raster<float> out(width, height, 1, std::nanf(""));
  for (int r = 0; r < height; ++r)
    for (int k = 0; k < width; ++k)
      if (const short v = found.at<short>(r, k); v > 0) out.at(k, r) = static_cast<float>(v) / 16;
  return out;
}

photo::Raster<float> ours(const dense::View& left, const dense::View& right,
                          const std::vector<dense::GroundHint>& ties) {
  const dense::DepthMap map = dense::match_depth(left, {&right}, ties);
  photo::Raster<float> out(width, height, 1, std::nanf(""));
  for (std::size_t i = 0; i < out.data.size(); ++i)
    if (map.depth.data[i] > 0) out.data[i] = static_cast<float>(c * base) / map.depth.data[i];
  return out;
}

}  // namespace

int main() {
  cv::setNumThreads(1);
  photo::Raster<float> left_depth, right_depth;
  const dense::View left = draw(0, 1, left_depth), right = draw(base, 2, right_depth);
  std::vector<dense::GroundHint> ties;
  Random random(3);
  for (int i = 0; i < 3000; ++i) {
    const int col = static_cast<int>(random.below(width)), row = static_cast<int>(random.below(height));
    ties.push_back({{col + 0.5, row + 0.5}, left_depth.at(col, row)});
  }
  const cv::Mat a = to_mat(left.image), b = to_mat(right.image);
  for (int round = 0; round < 5; ++round) {
    double begin = cpu_seconds();
    const photo::Raster<float> own = ours(left, right, ties);
    judge("ours", cpu_seconds() - begin, own, left_depth, right_depth);
    begin = cpu_seconds();
    const photo::Raster<float> other = theirs(a, b);
    judge("semi-global, 8 paths", cpu_seconds() - begin, other, left_depth, right_depth);
  }
}
