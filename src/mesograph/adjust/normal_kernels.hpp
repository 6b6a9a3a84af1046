#pragma once

#include <Eigen/Core>
#include <mesograph/camera/camera.hpp>
#include <utility>
#include <vector>

namespace mesograph::adjust {

// The innermost products of the normal equations, by columns, compiled for wider registers too where the processor has
// them; sums stay the same to the bit, for nothing is contracted. Accuracy: double throughout, but that what comes from
// the design of rays is single. Cost: no allocation.

inline constexpr int most = camera::parameter_count;
using CameraSquare = Eigen::Matrix<double, most, most>;
using CameraBySix = Eigen::Matrix<double, most, 6>;

/// out (6 x 6) -= Y (6 x 3) B' [turn, -B]; turn and B are 2 x 3. The innermost of all: once for each pair of rays of a
/// point.
void subtract_pair(const double* Y, const float* turn, const float* B, double* out);
/// out (most x n) += K' A; K (2 x most) in single precision, A 2 x n.
void add_product(const float* K, const double* A, int n, double* out);
/// out (most x n) -= W Y'; W most x 3, Y n x 3.
void subtract_product(const double* W, const double* Y, int n, double* out);

/// Sums by camera: one or two as a rule, so that the last one is nearly always the next one.
template <typename Matrix>
class ByCamera {
 public:
  Matrix& of(int column) {
    if (last_ < sums_.size() && sums_[last_].first == column) return sums_[last_].second;
    for (last_ = 0; last_ < sums_.size(); ++last_)
      if (sums_[last_].first == column) return sums_[last_].second;
    sums_.emplace_back(column, Matrix::Zero());
    return sums_.back().second;
  }
  const std::vector<std::pair<int, Matrix>>& all() const { return sums_; }

 private:
  std::vector<std::pair<int, Matrix>> sums_;
  std::size_t last_ = 0;
};

}  // namespace mesograph::adjust
