#pragma once

#include <Eigen/SparseCore>
#include <array>
#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/joint_control.hpp>
#include <mesograph/adjust/layout.hpp>
#include <mesograph/adjust/normal_pattern.hpp>
#include <mesograph/adjust/normal_terms.hpp>
#include <mesograph/adjust/sortie_terms.hpp>
#include <span>
#include <utility>
#include <vector>

namespace mesograph::adjust {

/// The normal equations of a block with its ground points eliminated (Schur complement).
///
/// For every image point with weight: v + A d_station + K d_camera + B d_point. Points: V = sum B'B + prior, so that
/// S = U - W V^-1 W' and s = u - W V^-1 v. Signs: `S d = s` gives the corrections to be added. Rows of S are summed by
/// the station that owns them, camera blocks over fixed runs of points: the same bytes for any number of threads.
/// Source: Brown (1976), The bundle adjustment - progress and prospects; Triggs et al. (2000), Bundle adjustment - a
/// modern synthesis, section 6.
class NormalEquations {
 public:
  NormalEquations(const Block& block, const Scope& scope);

  const Layout& layout() const { return layout_; }
  const std::vector<ActivePoint>& points() const { return pattern_.points; }
  /// Ends of scale bars, and points whose errors go together.
  const std::vector<ActivePoint>& ends() const { return pattern_.ends; }

  /// Sum of squared weighted residuals (with the Cauchy weight where asked) at a block's present values.
  double cost(const Block& block) const;
  /// Linearises at the present values; returns their cost.
  double build(const Block& block);
  /// Reduced system (lower triangle) and right side, damped: diagonals of U and V times 1 + lambda.
  void reduce(double lambda, Eigen::SparseMatrix<double>& S, Eigen::VectorXd& s);
  /// By how much the cost falls with the solution `d` of the system last reduced, were all of it linear.
  double fall_expected(const Eigen::VectorXd& s, const Eigen::VectorXd& d) const { return s.dot(d) + points_fall_; }
  /// Applies station, camera and offset corrections `d` and the points' that follow from them.
  void apply(const Eigen::VectorXd& d, Block& block) const;

 private:
  /// The design of one image point. In single precision, because there are millions and memory is what adjustment
  /// waits for: the minimum does not move, the way to it does by 1e-7 of a step.
  struct Linear {
    int station = -1, motion = -1, camera = -1;          ///< columns; -1: held, or not moving
    float seconds = 0;                                   ///< from the middle row: what motion counts with
    Eigen::Matrix<float, 2, 3> turn, B;                  ///< by the station's rotation; by the point, and -B its centre
    Eigen::Matrix<float, 2, camera::parameter_count> K;  ///< free parameters only, in layout order
    Eigen::Vector2d v;                                   ///< observed - computed, weighted
    Eigen::Matrix<double, 2, 6> station_design() const {
      Eigen::Matrix<double, 2, 6> A;
      A << turn.cast<double>(), -B.cast<double>();
      return A;
    }
    /// Of the station's block and of that of its motion: first column and what station_design() counts with.
    std::array<std::pair<int, double>, 2> station_blocks() const { return {{{station, 1.0}, {motion, seconds}}}; }
  };
  /// Sum of K'B over a point's rays of one camera; rows beyond the free parameters are zero.
  struct CameraRows {
    int camera = -1;  ///< column
    Eigen::Matrix<double, camera::parameter_count, 3, Eigen::DontAlign> W;
  };
  struct Reduced {
    Eigen::Matrix3d V, inverse;
    Eigen::Vector3d v;
    double cost = 0;
    int first_camera = 0, cameras = 0;  ///< in the list of all; one or two as a rule
  };
  std::span<CameraRows> cameras_of(const Reduced& point) {
    return {camera_rows_.data() + point.first_camera, static_cast<std::size_t>(point.cameras)};
  }
  std::span<const CameraRows> cameras_of(const Reduced& point) const {
    return {camera_rows_.data() + point.first_camera, static_cast<std::size_t>(point.cameras)};
  }
  void claim_cameras(const Block& block, const ActivePoint& active, Reduced& reduced);
  Linear linear_of(const Block& block, const Ray& ray, const Eigen::Vector3d& X, double robust_scale,
                   double* cost) const;
  void linearise(const Block& block, std::size_t point);
  double cost_of(const Block& block, const ActivePoint& active) const;
  /// A station's rows of the reduced system, lower triangle.
  struct Row {
    Eigen::Matrix<double, 6, 6> diagonal;
    std::vector<Eigen::Matrix<double, 6, 6>> across;
    Eigen::MatrixXd border;  ///< border x 6
    Eigen::Matrix<double, 6, 1> right;
  };
  Eigen::MatrixXd border_of(std::size_t first, std::size_t last, double lambda, double& fall);
  Eigen::MatrixXd reduce_points(double lambda);
  void reduce_block(std::size_t i, double lambda, Row& row) const;
  void add_sorties(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const;
  void add_verticals_and_motion(double lambda, std::vector<Row>& rows) const;
  void assemble(const std::vector<Row>& rows, const Eigen::MatrixXd& corner, Eigen::SparseMatrix<double>& S,
                Eigen::VectorXd& s) const;
  void build_ends(const Block& block);
  void add_joint_control(const Block& block, int first);
  void add_ends(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const;

  Scope scope_;
  Layout layout_;
  NormalPattern pattern_;
  JointTerm joint_;
  std::vector<Linear> linear_;
  std::vector<Reduced> reduced_;
  std::vector<CameraRows> camera_rows_;
  std::vector<SortieTerm> sortie_terms_;
  std::vector<LevelTerm> level_terms_;
  std::vector<MotionTerm> motion_terms_;  ///< what is expected of motion
  double points_fall_ = 0;                ///< what the points' own corrections take off the cost
  std::vector<Linear> end_rays_;          ///< of all ends, one after the other
  Eigen::MatrixXd end_normal_;     ///< of all end columns: control weights and bars; the last column the right side
  Eigen::Matrix2Xd camera_terms_;  ///< per column: weight of its prior, weighted misclosure
};

}  // namespace mesograph::adjust
