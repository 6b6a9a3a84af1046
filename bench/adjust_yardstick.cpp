// The adjustment beside a general least-squares library (Ceres: sparse Schur complement, two threads, analytic
// derivatives): the same simulated blocks, from the same start to the same cost, both costs by one function; and our
// whole adjustment, robust start, rejection, covariance and tests in it, beside the library's one run. Each run in a
// process of its own, in turn; seconds elapsed and of the processor, and memory above the block's own. Built by
// scripts/bench --yardsticks alone; nothing else links that library.
// usage: adjust_yardstick [PAIRS [PHOTOS...]]
#include <ceres/ceres.h>
#include <fmt/core.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <tbb/global_control.h>
#include <unistd.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <cstring>
#include <fstream>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/camera/rotation.hpp>
#include <string>
#include <vector>

using namespace mesograph;

namespace {

/// A site flown in strips by two sorties, three of four photos straight down, about 300 tie observations a photo,
/// control on every twentieth photo. Start values are off by half a metre and a quarter of a degree.
adjust::Block made_block(int photos, std::uint64_t seed) {
  Random random(seed);
  const auto shake = [&](double s) { return Eigen::Vector3d(random.normal(s), random.normal(s), random.normal(s)); };
  adjust::Block block;
  camera::Camera camera{"cam", 5472, 3648, camera::Interior::Zero()};
  camera.interior << 3650, 0, 0, 0, 0, 0, 0, 0, 0, 0;
  block.cameras = {camera};
  block.priors = {adjust::usual_prior(camera)};
  camera::Camera truth = camera;
  truth.interior << 3672, 8, -6, -0.03, 0.012, -0.002, 0.0004, -0.0003, 0, 0;
  adjust::Sortie sortie;
  block.sorties = {sortie, sortie};
  const int per_strip = std::max(4, static_cast<int>(std::sqrt(photos * 1.5)));
  const double along = 16, across = 33;
  std::vector<adjust::Station> true_stations;
  for (int i = 0; i < photos; ++i) {
    adjust::Station s;
    s.oriented = true;
    s.sortie = i % 5 == 4;
    s.C = Eigen::Vector3d(across * (i / per_strip), along * (i % per_strip), 80) + shake(1.0);
    const double tilt = s.sortie ? 0.45 : 0.0, azimuth = random.uniform(-3.1, 3.1);
    const Eigen::Vector3d back(std::sin(tilt) * std::sin(azimuth), std::sin(tilt) * std::cos(azimuth), std::cos(tilt));
    const Eigen::Vector3d right = Eigen::Vector3d::UnitY().cross(back).normalized();
    s.R << right, back.cross(right), back;
    s.R *= camera::rotation_by(shake(0.02));
    s.position = s.C + Eigen::Vector3d(1.2, -0.8, 2.0) * (s.sortie ? -1 : 1) + shake(2.0);
    true_stations.push_back(s);
    s.C += shake(0.5);
    s.R *= camera::rotation_by(shake(0.004));
    block.stations.push_back(s);
  }
  const double x1 = across * ((photos - 1) / per_strip) + 40, y1 = along * per_strip + 30;
  std::vector<std::vector<int>> near(static_cast<std::size_t>((x1 + 90) / 20 + 1) * 1000);
  const auto cell = [&](double x, double y) {
    return static_cast<std::size_t>((x + 80) / 20) * 1000 + static_cast<std::size_t>((y + 80) / 20);
  };
  for (int i = 0; i < photos; ++i)
    for (int dx = -4; dx <= 4; ++dx)
      for (int dy = -4; dy <= 4; ++dy) {
        const double x = true_stations[i].C.x() + 20 * dx, y = true_stations[i].C.y() + 20 * dy;
        if (x > -80 && y > -80 && cell(x, y) < near.size()) near[cell(x, y)].push_back(i);
      }
  int observations = 0;
  int made = 0;
  while (observations < 300 * photos) {
    const double x = random.uniform(-40, x1), y = random.uniform(-30, y1);
    const Eigen::Vector3d X(x, y, 8 * std::sin(x / 37) + 5 * std::cos(y / 29));
    adjust::GroundPoint point;
    for (const int i : near[cell(x, y)]) {
      const adjust::Station& s = true_stations[i];
      const auto at = camera::project(truth, s.R.transpose() * (X - s.C));
      if (at && camera::inside(truth, *at, 4) && random.uniform(0, 1) < 0.55)
        point.rays.push_back({i, *at + 0.4 * Eigen::Vector2d(random.normal(1), random.normal(1)), 0.4, true});
    }
    if (point.rays.size() < 3) continue;
    observations += static_cast<int>(point.rays.size());
    point.X = X + shake(0.5);
    if (++made % 400 == 0) {
      adjust::SurveyedPoint control;
      control.id = "K" + std::to_string(made);
      control.point = point;
      control.surveyed = X + shake(0.02);
      control.sigma.setConstant(0.02);
      block.surveyed.push_back(control);
    } else {
      block.points.push_back(point);
    }
  }
  return block;
}

constexpr int free_parameters = 8;

/// An image point: station (turn about the start rotation, centre), interior, point.
class ImagePoint : public ceres::SizedCostFunction<2, 6, free_parameters, 3> {
 public:
  ImagePoint(const camera::Camera& camera, const Eigen::Matrix3d& R0, const adjust::Ray& ray)
      : width_(camera.width), height_(camera.height), R0_(R0), ray_(ray) {}
  bool Evaluate(double const* const* parameters, double* residuals, double** jacobians) const override {
    const Eigen::Map<const Eigen::Vector3d> w(parameters[0]), C(parameters[0] + 3), X(parameters[2]);
    camera::Camera camera{"", width_, height_, camera::Interior::Zero()};
    camera.interior.head<free_parameters>() =
        Eigen::Map<const Eigen::Matrix<double, free_parameters, 1>>(parameters[1]);
    const Eigen::Matrix3d R = R0_ * camera::rotation_by(w);
    const Eigen::Vector3d v = R.transpose() * (X - C);
    const auto projection = camera::project_with_derivatives(camera, v);
    if (!projection) return false;
    Eigen::Map<Eigen::Vector2d>(residuals, 2) = (projection->x - ray_.x) / ray_.sigma;
    if (!jacobians) return true;
    const Eigen::Matrix<double, 2, 3> B = projection->by_ray * R.transpose() / ray_.sigma;
    if (jacobians[0]) {
      // Right Jacobian of the exponential map: a change of w turns by Jr dw behind the rotation.
      const double t = w.norm();
      const Eigen::Matrix3d S = camera::skew(w);
      const Eigen::Matrix3d Jr = t < 1e-8
                                     ? Eigen::Matrix3d(Eigen::Matrix3d::Identity() - 0.5 * S)
                                     : Eigen::Matrix3d(Eigen::Matrix3d::Identity() - (1 - std::cos(t)) / (t * t) * S +
                                                       (t - std::sin(t)) / (t * t * t) * S * S);
      Eigen::Map<Eigen::Matrix<double, 2, 6, Eigen::RowMajor>> J(jacobians[0]);
      J.leftCols<3>() = projection->by_ray * camera::skew(v) * Jr / ray_.sigma;
      J.rightCols<3>() = -B;
    }
    if (jacobians[1])
      Eigen::Map<Eigen::Matrix<double, 2, free_parameters, Eigen::RowMajor>>(jacobians[1], 2, free_parameters) =
          projection->by_interior.leftCols<free_parameters>() / ray_.sigma;
    if (jacobians[2]) Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>(jacobians[2], 2, 3) = B;
    return true;
  }

 private:
  int width_, height_;
  Eigen::Matrix3d R0_;
  adjust::Ray ray_;
};

/// C + offset against an observed position.
class Position : public ceres::SizedCostFunction<3, 6, 3> {
 public:
  Position(const Eigen::Vector3d& observed, const Eigen::Vector3d& sigma) : observed_(observed), sigma_(sigma) {}
  bool Evaluate(double const* const* p, double* residuals, double** jacobians) const override {
    for (int a = 0; a < 3; ++a) residuals[a] = (p[0][3 + a] + p[1][a] - observed_[a]) / sigma_[a];
    if (!jacobians) return true;
    if (jacobians[0]) std::fill(jacobians[0], jacobians[0] + 18, 0.0);
    if (jacobians[1]) std::fill(jacobians[1], jacobians[1] + 9, 0.0);
    for (int a = 0; a < 3; ++a) {
      if (jacobians[0]) jacobians[0][6 * a + 3 + a] = 1 / sigma_[a];
      if (jacobians[1]) jacobians[1][3 * a + a] = 1 / sigma_[a];
    }
    return true;
  }

 private:
  Eigen::Vector3d observed_, sigma_;
};

/// A parameter block against known values.
template <int n>
class Known : public ceres::SizedCostFunction<n, n> {
 public:
  using Vector = Eigen::Matrix<double, n, 1>;
  Known(const Vector& value, const Vector& sigma) : value_(value), sigma_(sigma) {}
  bool Evaluate(double const* const* p, double* residuals, double** jacobians) const override {
    for (int a = 0; a < n; ++a) residuals[a] = (p[0][a] - value_[a]) / sigma_[a];
    if (jacobians && jacobians[0]) {
      std::fill(jacobians[0], jacobians[0] + n * n, 0.0);
      for (int a = 0; a < n; ++a) jacobians[0][a * n + a] = 1 / sigma_[a];
    }
    return true;
  }

 private:
  Vector value_, sigma_;
};

int yardstick(adjust::Block& block, double tolerance) {
  std::vector<std::array<double, 6>> stations(block.stations.size());
  std::vector<Eigen::Matrix3d> R0;
  for (std::size_t i = 0; i < stations.size(); ++i) {
    const Eigen::Vector3d& C = block.stations[i].C;
    stations[i] = {0, 0, 0, C.x(), C.y(), C.z()};
    R0.push_back(block.stations[i].R);
  }
  ceres::Problem problem;
  auto ordering = std::make_shared<ceres::ParameterBlockOrdering>();
  const auto add = [&](adjust::GroundPoint& point) {
    for (const adjust::Ray& ray : point.rays)
      problem.AddResidualBlock(new ImagePoint(block.cameras[0], R0[ray.station], ray), nullptr,
                               stations[ray.station].data(), block.cameras[0].interior.data(), point.X.data());
    ordering->AddElementToGroup(point.X.data(), 0);
  };
  for (adjust::GroundPoint& point : block.points) add(point);
  for (adjust::SurveyedPoint& s : block.surveyed) {
    add(s.point);
    problem.AddResidualBlock(new Known<3>(s.surveyed, s.sigma), nullptr, s.point.X.data());
  }
  for (std::size_t i = 0; i < stations.size(); ++i) {
    adjust::Sortie& sortie = block.sorties[block.stations[i].sortie];
    const Eigen::Vector3d sigma(sortie.sigma_photo[0], sortie.sigma_photo[0], sortie.sigma_photo[1]);
    problem.AddResidualBlock(new Position(block.stations[i].position, sigma), nullptr, stations[i].data(),
                             sortie.offset.data());
    ordering->AddElementToGroup(stations[i].data(), 1);
  }
  for (adjust::Sortie& s : block.sorties) {
    problem.AddResidualBlock(
        new Known<3>(Eigen::Vector3d::Zero(), Eigen::Vector3d(s.sigma_offset[0], s.sigma_offset[0], s.sigma_offset[1])),
        nullptr, s.offset.data());
    ordering->AddElementToGroup(s.offset.data(), 1);
  }
  problem.AddResidualBlock(new Known<free_parameters>(block.priors[0].value.head<free_parameters>(),
                                                      block.priors[0].sigma.head<free_parameters>()),
                           nullptr, block.cameras[0].interior.data());
  ordering->AddElementToGroup(block.cameras[0].interior.data(), 1);
  ceres::Solver::Options options;
  options.linear_solver_type = ceres::SPARSE_SCHUR;
  options.sparse_linear_algebra_library_type = ceres::SUITE_SPARSE;
  options.linear_solver_ordering = ordering;
  options.num_threads = 2;
  options.max_num_iterations = 60;
  options.function_tolerance = tolerance;
  options.gradient_tolerance = options.parameter_tolerance = 1e-16;
  options.logging_type = ceres::SILENT;
  ceres::Solver::Summary summary;
  ceres::Solve(options, &problem, &summary);
  for (std::size_t i = 0; i < stations.size(); ++i) {
    const Eigen::Map<const Eigen::Vector3d> w(stations[i].data()), C(stations[i].data() + 3);
    block.stations[i].R = R0[i] * camera::rotation_by(w);
    block.stations[i].C = C;
  }
  return static_cast<int>(summary.iterations.size()) - 1;
}

double resident_mb() {
  std::ifstream file("/proc/self/statm");
  long pages = 0, resident = 0;
  file >> pages >> resident;
  return static_cast<double>(resident * sysconf(_SC_PAGESIZE)) / 1e6;
}
double cpu_seconds() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  const auto s = [](const timeval& t) { return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec); };
  return s(usage.ru_utime) + s(usage.ru_stime);
}
double peak_mb() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return static_cast<double>(usage.ru_maxrss) * 1024 / 1e6;
}

double elapsed_seconds() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

struct Measured {
  double cpu = 0, elapsed = 0, memory = 0, cost = 0;
  int iterations = 0;
};

enum class Run { solve, adjust, yardstick };

int run(Run which, adjust::Block& block) {
  Progress progress;
  adjust::SolveOptions options;
  options.cost_tolerance = 1e-9;
  if (which == Run::solve) return adjust::solve(block, {}, options, progress).iterations;
  if (which == Run::adjust) return adjust::adjust(block, {}, progress).iterations;
  return yardstick(block, options.cost_tolerance);
}

/// One run in a process of its own, so that its peak of memory is its own.
Measured in_own_process(int photos, std::uint64_t seed, Run which) {
  std::fflush(stdout);  // or the child prints it again
  int ends[2];
  if (pipe(ends) != 0) std::abort();
  if (fork() == 0) {
    const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, 2);
    Measured m;
    adjust::Block block = made_block(photos, seed);
    const double before_mb = resident_mb(), before = cpu_seconds(), start = elapsed_seconds();
    m.iterations = run(which, block);
    m.cpu = cpu_seconds() - before, m.elapsed = elapsed_seconds() - start;
    m.memory = peak_mb() - before_mb;
    m.cost = adjust::NormalEquations(block, {}).cost(block);
    if (write(ends[1], &m, sizeof m) != sizeof m) std::abort();
    _exit(0);
  }
  Measured m;
  if (read(ends[0], &m, sizeof m) != sizeof m) fmt::print("a run failed\n");
  close(ends[0]), close(ends[1]);
  while (wait(nullptr) > 0) {
  }
  return m;
}

double middle(std::vector<double> v) {
  std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2), v.end());
  return v[v.size() / 2];
}

}  // namespace

int main(int argc, char** argv) {
  const int pairs = argc > 1 ? std::atoi(argv[1]) : 5;
  std::vector<int> sizes;
  for (int i = 2; i < argc; ++i) sizes.push_back(std::atoi(argv[i]));
  if (sizes.empty()) sizes = {200, 1000, 2000};
  fmt::print("photos  run     CPU s  ratio   elapsed s  ratio   memory MB  ratio   iterations  cost difference\n");
  std::vector<std::pair<double, double>> growth;
  for (const int photos : sizes) {
    std::array<std::vector<Measured>, 3> runs;
    for (int pair = 0; pair < pairs; ++pair)
      for (const Run which : {Run::yardstick, Run::solve, Run::adjust})
        runs[static_cast<std::size_t>(which)].push_back(in_own_process(photos, 77, which));
    const std::vector<Measured>& theirs = runs[static_cast<std::size_t>(Run::yardstick)];
    for (const auto& [which, name] : {std::pair{Run::solve, "solve"}, {Run::adjust, "adjust"}}) {
      const std::vector<Measured>& ours = runs[static_cast<std::size_t>(which)];
      const auto both = [&](double Measured::*value) {
        std::vector<double> some, ratio;
        for (std::size_t i = 0; i < ours.size(); ++i)
          some.push_back(ours[i].*value), ratio.push_back((ours[i].*value) / (theirs[i].*value));
        return std::pair{middle(some), middle(ratio)};
      };
      const auto cpu = both(&Measured::cpu), elapsed = both(&Measured::elapsed), memory = both(&Measured::memory);
      fmt::print("{:6}  {:6}  {:6.2f} {:5.3f}  {:6.2f} {:5.3f}  {:6.0f} {:5.3f}  {} / {}  {:+.1e}\n", photos, name,
                 cpu.first, cpu.second, elapsed.first, elapsed.second, memory.first, memory.second, ours[0].iterations,
                 theirs[0].iterations, ours[0].cost / theirs[0].cost - 1);
      std::fflush(stdout);
      if (which == Run::adjust) growth.emplace_back(photos, cpu.first);
    }
  }
  if (growth.size() > 1)
    fmt::print(
        "growth of our CPU time from {} to {} photos: exponent {:.2f}\n", growth.front().first, growth.back().first,
        std::log(growth.back().second / growth.front().second) / std::log(growth.back().first / growth.front().first));
}
