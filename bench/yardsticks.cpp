// Keypoints and matching beside a general vision library's scale-invariant keypoints and brute-force matcher: the same
// images, the same run, one thread each, CPU seconds, interleaved. Then what the matches are worth on warped photos
// whose truth is known. Built by scripts/bench --yardsticks alone; nothing else links that library.
#include <fmt/core.h>
#include <time.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <functional>
#include <mesograph/camera/camera.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/descriptor_match.hpp>
#include <mesograph/match/verify.hpp>
#include <opencv2/core.hpp>
#include <opencv2/features2d.hpp>

using namespace mesograph;

namespace {

double cpu_seconds() {
  timespec now{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &now);
  return static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec);
}
double seconds_of(const std::function<void()>& work) {
  const double begin = cpu_seconds();
  work();
  return cpu_seconds() - begin;
}

cv::Mat to_mat(const photo::Grey& image) {
  cv::Mat out(image.height, image.width, CV_8U);
  for (int r = 0; r < image.height; ++r)
    for (int c = 0; c < image.width; ++c)
      out.at<std::uint8_t>(r, c) = static_cast<std::uint8_t>(std::clamp(std::lround(image.at(c, r)), 0L, 255L));
  return out;
}
photo::Grey rounded(photo::Grey image) {
  for (float& v : image.data) v = std::clamp(std::round(v), 0.0f, 255.0f);
  return image;
}

/// Places in two images that are said to be the same, in pixels from the outer corner of the top-left pixel.
struct Link {
  Eigen::Vector2d a, b;
};

struct Found {
  std::size_t keypoints = 0;
  std::vector<Link> links;
};

Found ours(const photo::Grey& a, const photo::Grey& b, const keypoint::DetectOptions& options) {
  const keypoint::Keypoints ka = keypoint::detect(a, options), kb = keypoint::detect(b, options);
  Found out;
  out.keypoints = std::max(ka.points.size(), kb.points.size());
  for (const match::Match& m : match::match(ka, kb))
    out.links.push_back({{ka.points[m.a].x, ka.points[m.a].y}, {kb.points[m.b].x, kb.points[m.b].y}});
  return out;
}

std::vector<cv::DMatch> mutual(const cv::Mat& a, const cv::Mat& b, float ratio) {
  const cv::BFMatcher matcher(cv::NORM_L2);
  std::vector<std::vector<cv::DMatch>> there, back;
  matcher.knnMatch(a, b, there, 2);
  matcher.knnMatch(b, a, back, 2);
  std::vector<cv::DMatch> out;
  for (const auto& two : there) {
    if (two.size() < 2 || two[0].distance >= ratio * two[1].distance) continue;
    const auto& other = back[two[0].trainIdx];
    if (other.size() == 2 && other[0].trainIdx == two[0].queryIdx && other[0].distance < ratio * other[1].distance)
      out.push_back(two[0]);
  }
  return out;
}

Found theirs(const photo::Grey& a, const photo::Grey& b, int limit) {
  const auto sift = cv::SIFT::create(limit);
  std::vector<cv::KeyPoint> ka, kb;
  cv::Mat da, db;
  sift->detectAndCompute(to_mat(a), cv::noArray(), ka, da);
  sift->detectAndCompute(to_mat(b), cv::noArray(), kb, db);
  Found out;
  out.keypoints = std::max(ka.size(), kb.size());
  // Its pixel centres are at whole numbers.
  for (const cv::DMatch& m : mutual(da, db, 0.82f))
    out.links.push_back({{ka[m.queryIdx].pt.x + 0.5, ka[m.queryIdx].pt.y + 0.5},
                         {kb[m.trainIdx].pt.x + 0.5, kb[m.trainIdx].pt.y + 0.5}});
  return out;
}

/// The matches that one relative orientation explains: the program's own verification, for both.
std::vector<Link> verified(const std::vector<Link>& links, int width, int height) {
  Eigen::Matrix2Xd a(2, links.size()), b(2, links.size());
  std::vector<match::Match> all;
  for (std::size_t i = 0; i < links.size(); ++i) {
    a.col(static_cast<Eigen::Index>(i)) = links[i].a, b.col(static_cast<Eigen::Index>(i)) = links[i].b;
    all.push_back({static_cast<int>(i), static_cast<int>(i)});
  }
  camera::Camera camera;
  camera.width = width, camera.height = height;
  camera.interior[camera::c] = width;
  std::vector<Link> out;
  for (const match::Match& m : match::verify(all, a, camera, b, camera, 1).matches) out.push_back(links[m.a]);
  return out;
}

/// b -> a: where in image A lies what pixel x of image B shows.
using Truth = std::function<Eigen::Vector2d(const Eigen::Vector2d&)>;

struct Judged {
  std::size_t all = 0, right = 0;
  double rms = 0;
  Eigen::Vector2d mean = Eigen::Vector2d::Zero();
};
/// Errors are taken in A, in its pixels; a localisation's share of the difference of two is 1/sqrt(2).
Judged judge(const std::vector<Link>& links, const Truth& truth, double within) {
  Judged out;
  double sum = 0;
  for (const Link& link : links) {
    const Eigen::Vector2d e = link.a - truth(link.b);
    ++out.all;
    if (e.norm() > within) continue;
    ++out.right;
    sum += e.squaredNorm();
    out.mean += e;
  }
  if (out.right) {
    out.rms = std::sqrt(sum / 2 / static_cast<double>(out.right));
    out.mean /= static_cast<double>(out.right);
  }
  return out;
}

/// Box mean of factor x factor pixels, starting at an offset: an offset of k shifts the image by k/factor pixels.
photo::Grey reduced(const photo::Grey& s, int factor, int off_col, int off_row, int width, int height) {
  photo::Grey out(width, height);
  for (int r = 0; r < height; ++r)
    for (int c = 0; c < width; ++c) {
      float sum = 0;
      for (int i = 0; i < factor; ++i)
        for (int j = 0; j < factor; ++j) sum += s.at(c * factor + j + off_col, r * factor + i + off_row);
      out.at(c, r) = sum / static_cast<float>(factor * factor);
    }
  return out;
}

float bilinear(const photo::Grey& s, double x, double y) {
  x = std::clamp(x - 0.5, 0.0, s.width - 1.001), y = std::clamp(y - 0.5, 0.0, s.height - 1.001);
  const int c = static_cast<int>(x), r = static_cast<int>(y);
  const auto fx = static_cast<float>(x - c), fy = static_cast<float>(y - r);
  return (1 - fy) * ((1 - fx) * s.at(c, r) + fx * s.at(c + 1, r)) +
         fy * ((1 - fx) * s.at(c, r + 1) + fx * s.at(c + 1, r + 1));
}

struct Case {
  const char* name;
  double angle, scale, tilt, blur, gain;
};

/// Draws image B of a case out of the source, with `fine` times the pixels of A; H: B -> A.
photo::Grey warped(const photo::Grey& source, int fine, int width, int height, const Case& c, Eigen::Matrix3d& H) {
  Eigen::Matrix3d middle = Eigen::Matrix3d::Identity(), back = middle, turn = middle, view = middle;
  middle.topRightCorner<2, 1>() << -width / 2.0, -height / 2.0;
  back.topRightCorner<2, 1>() << width / 2.0, height / 2.0;
  turn.topLeftCorner<2, 2>() << std::cos(c.angle), -std::sin(c.angle), std::sin(c.angle), std::cos(c.angle);
  turn.topLeftCorner<2, 2>() *= c.scale;
  view(2, 0) = c.tilt / width;
  view(2, 1) = 0.5 * c.tilt / width;
  H = back * turn * view * middle;
  photo::Grey out(width, height);
  const int samples = std::max(3, static_cast<int>(std::ceil(fine * c.scale)));
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col) {
      float sum = 0;
      for (int i = 0; i < samples; ++i)
        for (int j = 0; j < samples; ++j) {
          const Eigen::Vector3d x = H * Eigen::Vector3d(col + (j + 0.5) / samples, row + (i + 0.5) / samples, 1);
          sum += bilinear(source, fine * x.x() / x.z(), fine * x.y() / x.z());
        }
      out.at(col, row) = static_cast<float>(c.gain) * sum / static_cast<float>(samples * samples);
    }
  if (c.blur > 0) {
    cv::Mat mat(height, width, CV_32F, out.data.data()), soft;
    const int reach = static_cast<int>(std::ceil(4 * c.blur));
    std::vector<float> k;
    for (int i = -reach; i <= reach; ++i) k.push_back(static_cast<float>(std::exp(-0.5 * i * i / (c.blur * c.blur))));
    float total = 0;
    for (const float v : k) total += v;
    photo::Grey across = out;
    for (int row = 0; row < height; ++row)
      for (int col = 0; col < width; ++col) {
        float s = 0;
        for (int i = -reach; i <= reach; ++i) s += k[i + reach] * out.at(std::clamp(col + i, 0, width - 1), row);
        across.at(col, row) = s / total;
      }
    for (int row = 0; row < height; ++row)
      for (int col = 0; col < width; ++col) {
        float s = 0;
        for (int i = -reach; i <= reach; ++i) s += k[i + reach] * across.at(col, std::clamp(row + i, 0, height - 1));
        out.at(col, row) = s / total;
      }
  }
  return rounded(std::move(out));
}

photo::Grey turned(const photo::Grey& s, int quarters) {
  photo::Grey in = s;
  for (int q = 0; q < quarters; ++q) {
    photo::Grey out(in.height, in.width);
    for (int r = 0; r < in.height; ++r)
      for (int c = 0; c < in.width; ++c) out.at(in.height - 1 - r, c) = in.at(c, r);
    in = std::move(out);
  }
  return in;
}

void print_ratios(const char* what, std::vector<double> own, std::vector<double> other) {
  std::vector<double> ratio;
  for (std::size_t i = 0; i < own.size(); ++i) ratio.push_back(own[i] / other[i]);
  std::sort(ratio.begin(), ratio.end());
  std::sort(own.begin(), own.end()), std::sort(other.begin(), other.end());
  fmt::print("{:<34} {:8.3f} s {:8.3f} s   ratio {:.3f} {:.3f} {:.3f}\n", what, own[own.size() / 2],
             other[other.size() / 2], ratio.front(), ratio[ratio.size() / 2], ratio.back());
}

void speed(const photo::Grey& full, int runs) {
  const cv::Mat mat = to_mat(full);
  keypoint::Keypoints own;
  std::vector<cv::KeyPoint> points;
  cv::Mat descriptors;
  std::vector<double> t_own, t_other, m_own, m_other;
  for (int run = 0; run < runs; ++run) {
    t_own.push_back(seconds_of([&] { own = keypoint::detect(full); }));
    t_other.push_back(
        seconds_of([&] { cv::SIFT::create(8000)->detectAndCompute(mat, cv::noArray(), points, descriptors); }));
  }
  fmt::print("{} x {} pixels: {} keypoints, yardstick {}\n", full.width, full.height, own.points.size(), points.size());
  print_ratios("detect and describe", t_own, t_other);
  own.points.resize(std::min<std::size_t>(8000, own.points.size()));
  const cv::Mat rows = descriptors.rowRange(0, std::min(8000, descriptors.rows));
  for (int run = 0; run < runs; ++run) {
    m_own.push_back(seconds_of([&] { match::match(own, own); }));
    m_other.push_back(seconds_of([&] { mutual(rows, rows, 0.82f); }));
  }
  print_ratios("mutual matching, 8000 x 8000", m_own, m_other);
}

void quality(const photo::Grey& source, int fine) {
  const int width = source.width / fine - 2, height = source.height / fine - 2;
  const photo::Grey a = rounded(reduced(source, fine, 0, 0, width, height));
  fmt::print(
      "\nmatches within 1.5 px of truth, {} x {} pixels        raw right (share)     verified right (share)   rms px\n",
      width, height);
  for (const Case& c : {Case{"same, other exposure", 0, 1, 0, 0, 0.7}, Case{"turn 25 deg", 0.44, 1, 0, 0, 1},
                        Case{"turn 90 deg, tilt", 1.571, 1, 0.3, 0, 1}, Case{"perspective", 0.1, 1, 0.6, 0, 1},
                        Case{"blur 1.2 px", 0, 1, 0.1, 1.2, 1}, Case{"scale 1.5", 0.3, 1.5, 0, 0, 1},
                        Case{"scale 2", 0.2, 2, 0.1, 0, 0.9}, Case{"scale 2.5", 0.5, 2.5, 0, 0, 1}}) {
    Eigen::Matrix3d H;
    const photo::Grey b = warped(source, fine, width, height, c, H);
    const Truth truth = [&](const Eigen::Vector2d& x) { return Eigen::Vector2d((H * x.homogeneous()).hnormalized()); };
    const Found own = ours(a, b, {});
    const Found other = theirs(a, b, static_cast<int>(own.keypoints));
    for (const auto& [who, found] : {std::pair{"own", &own}, std::pair{"yardstick", &other}}) {
      const Judged raw = judge(found->links, truth, 1.5);
      const Judged kept = judge(verified(found->links, width, height), truth, 1.5);
      fmt::print("{:<22} {:<10} {:6} keypoints {:12} ({:.3f}) {:18} ({:.3f}) {:16.3f}\n", c.name, who, found->keypoints,
                 raw.right, static_cast<double>(raw.right) / static_cast<double>(std::max<std::size_t>(1, raw.all)),
                 kept.right, static_cast<double>(kept.right) / static_cast<double>(std::max<std::size_t>(1, kept.all)),
                 kept.rms);
    }
  }
}

void bias(const photo::Grey& source, int fine) {
  const int width = source.width / fine - 2, height = source.height / fine - 2;
  const photo::Grey a = rounded(reduced(source, fine, 0, 0, width, height));
  fmt::print("\nbias and localisation of one keypoint                 mean x    mean y   rms px\n");
  const auto row = [&](const std::string& name, const photo::Grey& b, const Truth& truth) {
    for (const auto& [who, found] : {std::pair{"own", ours(a, b, {})}, std::pair{"yardstick", theirs(a, b, 8000)}}) {
      const Judged judged = judge(found.links, truth, 1.5);
      fmt::print("{:<34} {:<10} {:12.4f} {:9.4f} {:8.3f}\n", name, who, judged.mean.x(), judged.mean.y(),
                 judged.rms / std::sqrt(2.0));
    }
  };
  for (int q = 1; q < 4; ++q)
    row(fmt::format("turned by {} degrees", 90 * q), turned(a, q), [&](const Eigen::Vector2d& x) {
      Eigen::Vector2d out = x;
      for (int k = q, w = k % 2 ? height : width; k > 0; --k, w = w == width ? height : width)
        out = Eigen::Vector2d(out.y(), w - out.x());
      return out;
    });
  for (const auto& [dc, dr] : {std::pair{1, 0}, std::pair{0, 1}, std::pair{2, 1}})
    row(fmt::format("shifted by {:.2f}, {:.2f} px", dc / double(fine), dr / double(fine)),
        rounded(reduced(source, fine, dc, dr, width, height)), [&, dc = dc, dr = dr](const Eigen::Vector2d& x) {
          return Eigen::Vector2d(x.x() + dc / double(fine), x.y() + dr / double(fine));
        });
}

}  // namespace

/// yardsticks PHOTO [RUNS]
int main(int argc, char** argv) {
  cv::setNumThreads(1);
  const photo::Grey source = photo::read_grey(argv[1]);
  fmt::print("yardstick {}, {}\n", CV_VERSION, argv[1]);
  speed(source, argc > 2 ? std::stoi(argv[2]) : 5);
  quality(source, 1);
  quality(source, 3);
  bias(source, 4);
}
