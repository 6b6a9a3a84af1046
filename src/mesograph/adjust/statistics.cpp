#include <algorithm>
#include <boost/math/distributions/normal.hpp>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/joint_control.hpp>
#include <mesograph/adjust/leave_out.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/sortie_terms.hpp>
#include <mesograph/adjust/statistics.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

/// What a group of observations adds up to.
struct Sum {
  int n = 0;
  double squares = 0, redundancy = 0;
  void add(double residual_over_sigma) { add_square(residual_over_sigma * residual_over_sigma); }
  void add_square(double value) { ++n, squares += value; }
};

struct Tally {
  Sum ties, sightings, plan, height, bars, positions, attitudes, verticals, priors;
  int points = 0;           ///< ground points among the unknowns
  int columns_of_ends = 0;  ///< of those, coordinates that stand in the layout already
  int candidates = 0;       ///< tie rays that could take part
  double pixels2 = 0;       ///< squared lengths of residuals
  int image_points = 0;
};

int rays_of(const Block& block, const GroundPoint& point) {
  return static_cast<int>(
      std::count_if(point.rays.begin(), point.rays.end(), [&](const Ray& ray) { return takes_part(block, ray); }));
}

/// v' Q^-1 v over the coordinates that were surveyed; `Q` their covariance. Q may be singular where nothing else
/// controls a coordinate.
void test_together(const Eigen::Vector3d& v, const Eigen::Matrix3d& Q, const SurveyedPoint& point,
                   SurveyedResult& result) {
  std::vector<int> surveyed;
  for (int a = 0; a < 3; ++a)
    if (point.knows(a)) surveyed.push_back(a);
  result.together_of = static_cast<int>(surveyed.size());
  if (surveyed.empty()) return;
  const Eigen::VectorXd some = v(surveyed);
  const Eigen::MatrixXd of_some = Q(surveyed, surveyed);
  // The shortest solution is the pseudo-inverse: uncontrolled coordinates drop out.
  result.together = some.dot(shortest_least_squares(of_some, some));
}

/// Tests of control whose errors go together.
class JointTests {
 public:
  JointTests(const Block& block, const AdjustResult& out)
      : term_(block, out.layout), tests_(joint_tests(block, term_, out.layout, out.inverse)) {}
  /// The three of a point; null where its errors are its own.
  const JointTest* of(std::size_t surveyed) const {
    if (!term_.holds(surveyed)) return nullptr;
    const auto at = std::find(term_.points().begin(), term_.points().end(), surveyed) - term_.points().begin();
    return &tests_[3 * static_cast<std::size_t>(at)];
  }

 private:
  JointTerm term_;
  std::vector<JointTest> tests_;
};

/// Of observations that are correlated: a residual's own share is what all of them together say of it.
Tested tested_jointly(const JointTest& joint) {
  constexpr double delta0 = 4.13;  // of alpha 0.001 and power 0.80 (Baarda 1968)
  Tested out;
  out.residual = joint.residual, out.redundancy = joint.redundancy;
  if (!(joint.redundancy > 1e-6) || !(joint.pull_variance > 0)) return out;
  out.w = joint.pull / std::sqrt(joint.pull_variance);
  out.gross = -joint.pull / joint.pull_variance;
  out.detectable = delta0 / std::sqrt(joint.pull_variance);
  return out;
}

/// `joint`: the point's three tests where its errors go with those of others; null where they are its own.
void test_control(const SurveyedPoint& point, const JointTest* joint, SurveyedResult& result, Tally& tally,
                  AdjustResult& out) {
  constexpr Component components[] = {Component::east, Component::north, Component::height};
  const Eigen::Vector3d v = point.axes.transpose() * (point.point.X - point.surveyed);
  const Eigen::Matrix3d Q = point.axes.transpose() * result.covariance * point.axes;
  // Covariance of a residual: that of the observation less that of its adjusted value.
  Eigen::Matrix3d of_v = -Q;
  for (int a = 0; a < 3; ++a) {
    if (!point.knows(a)) continue;
    of_v(a, a) += point.sigma[a] * point.sigma[a];
    Tested& test = result.coordinates[a];
    test = joint ? tested_jointly(joint[a]) : tested(v[a], point.sigma[a], Q(a, a));
    test.effect = (1 - test.redundancy) * test.detectable;
    (a < 2 ? tally.plan : tally.height).redundancy += test.redundancy;
    if (std::abs(test.w) > critical_w)
      out.suspects.push_back({Observed::control, point.id, -1, components[a], test.gross, test.w});
  }
  test_together(v, of_v, point, result);
}

/// The error of a check by its predicted covariance, the survey's own included.
void test_check(const SurveyedPoint& point, SurveyedResult& result) {
  const Eigen::Vector3d e = point.axes.transpose() * (point.point.X - point.surveyed);
  Eigen::Matrix3d Q = point.axes.transpose() * result.covariance * point.axes;
  for (int a = 0; a < 3; ++a)
    if (point.knows(a)) Q(a, a) += point.sigma[a] * point.sigma[a];
  test_together(e, Q, point, result);
}

/// Of a check too: its rays test each other.
void test_sightings(const SurveyedPoint& point, const PointDesign& design, const PointStatistics& statistics,
                    double critical, SurveyedResult& result, Tally& tally, AdjustResult& out) {
  result.sightings.resize(point.point.rays.size());
  for (std::size_t r = 0; r < design.rays.size(); ++r) {
    const Ray& ray = *design.rays[r];
    // Designs skip rays that take no part; results keep their places.
    const auto number = static_cast<std::size_t>(&ray - point.point.rays.data());
    for (int a = 0; a < 2; ++a) {
      const auto row = static_cast<Eigen::Index>(2 * r) + a;
      Tested& test = result.sightings[number][a];
      // Designs are scaled to unit weight; what a surveyor reads is in pixels.
      test = tested(-design.v[row] * ray.sigma, ray.sigma, statistics.image(row, row) * ray.sigma * ray.sigma);
      test.effect = statistics.cross.col(row).norm() * test.detectable / ray.sigma;
      if (point.role == Role::control) tally.sightings.redundancy += test.redundancy;
      if (std::abs(test.w) > critical)
        out.suspects.push_back(
            {Observed::sighting, point.id, ray.station, a == 0 ? Component::x : Component::y, test.gross, test.w});
    }
  }
}

double rms_of_rays(const Block& block, const GroundPoint& point, int& rays) {
  double sum = 0;
  rays = 0;
  for (const Ray& ray : point.rays) {
    if (!takes_part(block, ray)) continue;
    if (const auto v = residual(block, ray, point.X)) sum += v->squaredNorm(), ++rays;
  }
  return rays ? std::sqrt(sum / rays) : nan;
}

/// Bars: |Xa - Xb| - length, whose covariance is that of the measured length less that of the adjusted one.
void judge_bars(const Block& block, Tally& tally, AdjustResult& out) {
  for (const ScaleBar& bar : block.scale_bars) {
    ScaleBarResult result;
    const int a = out.layout.end[bar.a], b = out.layout.end[bar.b];
    result.used = a >= 0 && b >= 0;
    if (result.used) {
      const Eigen::Vector3d d = block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X;
      Eigen::Matrix<double, 6, 1> row;
      // Length by its two ends.
      row << d.normalized(), -d.normalized();
      const double of_length = row.dot(out.inverse.among({a, a + 1, a + 2, b, b + 1, b + 2}) * row);
      result.length = d.norm();
      result.test = tested(result.length - bar.length, bar.sigma, of_length);
      result.test.effect = (1 - result.test.redundancy) * result.test.detectable;
      tally.bars.add((result.length - bar.length) / bar.sigma);
      tally.bars.redundancy += result.test.redundancy;
      if (std::abs(result.test.w) > critical_w)
        out.suspects.push_back({Observed::scale_bar, bar.id, -1, Component::length, result.test.gross, result.test.w});
    }
    out.scale_bars.push_back(result);
  }
}

void judge_point(const Block& block, const SurveyedPoint& point, int end, const JointTest* joint, double critical,
                 Tally& tally, SurveyedResult& result, AdjustResult& out) {
  const bool in = point.role == Role::control;
  const PointDesign design = design_of(block, point.point, end, out.layout);
  const Eigen::MatrixXd Q = out.inverse.among(design.columns);
  const PointStatistics statistics =
      point_statistics(design, in ? weight_of(point) : Eigen::Matrix3d(Eigen::Matrix3d::Zero()), Q);
  result.covariance = statistics.covariance;
  // One ray alone gives no place to compare with.
  if (result.rays < 2) return;
  if (in)
    test_control(point, joint, result, tally, out);
  else
    test_check(point, result);
  if (point.role == Role::off) return;
  test_sightings(point, design, statistics, critical, result, tally, out);
  if (in && !point.natural) result.left_out = leave_out(block, point, design, out.layout, Q);
}

void judge_surveyed(Block& block, const JointTests& joint, Tally& tally, AdjustResult& out) {
  // A finder's sightings come by the hundred: judged one by one, many right ones would stand out.
  std::size_t tests = 0;
  for (const SurveyedPoint& point : block.surveyed) tests += 2 * point.point.rays.size();
  const double critical = critical_among(tests);
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    SurveyedPoint& point = block.surveyed[i];
    SurveyedResult result;
    if (point.role != Role::control) {
      point.point.X.setConstant(nan);
      // A check is intersected from the adjusted photos alone; its coordinates must have no part in it.
      place(block, point.point, 0.02);
    }
    result.X = point.point.X;
    result.rms_px = point.point.X.allFinite() ? rms_of_rays(block, point.point, result.rays) : nan;
    if (point.point.X.allFinite())
      judge_point(block, point, out.layout.end[i], joint.of(i), critical, tally, result, out);
    out.surveyed.push_back(result);
  }
}

/// `ties`: what is judged is the noise of a ray, without what the likeness of rays adds to its sigma.
void tally_rays(const Block& block, const GroundPoint& point, bool ties, Sum& sum, Tally& tally) {
  ++tally.points;
  for (const Ray& ray : point.rays) {
    const auto v = takes_part(block, ray) ? residual(block, ray, point.X) : std::nullopt;
    if (!v) continue;
    const double sigma = ties ? ray.sigma / std::sqrt(alike_of(block, ray)) : ray.sigma;
    sum.add(v->x() / sigma);
    sum.add(v->y() / sigma);
    tally.pixels2 += v->squaredNorm();
    ++tally.image_points;
  }
}

void tally_ties(const Block& block, Tally& tally) {
  for (const GroundPoint& point : block.points) {
    for (const Ray& ray : point.rays) tally.candidates += block.stations[ray.station].oriented;
    if (point.X.allFinite() && rays_of(block, point) >= 2) tally_rays(block, point, true, tally.ties, tally);
  }
}

void tally_control(const Block& block, const JointTests& joint, const AdjustResult& out, Tally& tally) {
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    const SurveyedPoint& point = block.surveyed[i];
    if (point.role != Role::control || rays_of(block, point.point) < 2 || !point.point.X.allFinite()) continue;
    tally_rays(block, point.point, false, tally.sightings, tally);
    // Ends of bars are in the layout already and would be counted twice.
    tally.columns_of_ends += out.layout.end[i] >= 0 ? 3 : 0;
    const Eigen::Vector3d v = point.axes.transpose() * (point.point.X - point.surveyed);
    for (int a = 0; a < 3; ++a)
      if (point.knows(a))
        // Of what is correlated: each coordinate's share of v' P v, which may be negative.
        (a < 2 ? tally.plan : tally.height)
            .add_square(joint.of(i) ? v[a] * joint.of(i)[a].pull : std::pow(v[a] / point.sigma[a], 2));
  }
}

/// Positions and attitudes, each tested, and the priors of what they have in common.
void tally_sorties(const Block& block, Tally& tally, AdjustResult& out) {
  constexpr Component of_position[] = {Component::east, Component::north, Component::height},
                      of_attitude[] = {Component::x, Component::y, Component::z};
  out.positions.resize(block.stations.size());
  out.attitudes.resize(block.stations.size());
  // Positions come by the hundred and keep to no normal distribution: only what is beyond all chance is a suspect.
  const double critical = critical_among(3 * block.stations.size());
  for (const SortieTerm& term : sortie_terms(block, out.layout)) {
    std::vector<int> columns;
    for (int i = 0; term.station >= 0 && i < 6; ++i) columns.push_back(term.station + i);
    Eigen::MatrixXd design(3, (term.station >= 0 ? 6 : 0) + 3 * static_cast<Eigen::Index>(term.common.size()));
    if (term.station >= 0) design.leftCols<6>() = term.A;
    for (const auto& [column, D] : term.common) {
      design.middleCols<3>(static_cast<Eigen::Index>(columns.size())) = D;
      for (int i = 0; i < 3; ++i) columns.push_back(column + i);
    }
    // In units of the sigmas: its diagonal is one less the redundancy.
    const Eigen::Matrix3d q = design * out.inverse.among(columns) * design.transpose();
    const bool prior = term.kind == SortieTerm::Kind::prior, position = term.kind == SortieTerm::Kind::position;
    Sum& sum = prior ? tally.priors : position ? tally.positions : tally.attitudes;
    for (int a = 0; a < 3; ++a) {
      sum.add(term.v[a]);
      sum.redundancy += 1 - q(a, a);
      if (prior) continue;
      Tested& test = (position ? out.positions : out.attitudes)[term.index][a];
      test = tested(-term.v[a] * term.sigma[a], term.sigma[a], q(a, a) * term.sigma[a] * term.sigma[a]);
      test.effect = (1 - test.redundancy) * test.detectable;
      if (!(std::abs(test.w) > critical)) continue;
      if (position)
        out.suspects.push_back({Observed::position, "", term.index, of_position[a], test.gross, test.w});
      else
        out.suspects.push_back({Observed::attitude, "", term.index, of_attitude[a], test.gross * deg_per_rad, test.w});
    }
  }
}

void tally_verticals(const Block& block, const AdjustResult& out, Tally& tally) {
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    const int first = out.layout.station[i];
    if (first < 0 || !(s.sigma_up > 0)) continue;
    // Of a direction two components are observed; the third, along it, is none.
    tally.verticals.n += 2;
    tally.verticals.squares += tilt(s).squaredNorm() / (s.sigma_up * s.sigma_up);
    const Eigen::Matrix3d A = camera::skew(s.up) * camera::skew(s.R.transpose().col(2)) / s.sigma_up;
    tally.verticals.redundancy += 2 - (A * out.inverse.among({first, first + 1, first + 2}) * A.transpose()).trace();
  }
}

void predict_stations(Block& block, const AdjustResult& out) {
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const int first = out.layout.station[i];
    if (first < 0) continue;
    Station& s = block.stations[i];
    const Eigen::MatrixXd Q = out.inverse.among({first, first + 1, first + 2, first + 3, first + 4, first + 5});
    s.covariance = Q.bottomRightCorner<3, 3>();
    s.sigma_angle = std::sqrt(Q.topLeftCorner<3, 3>().trace() / 3);
  }
}

void tally_priors(const Block& block, const AdjustResult& out, Tally& tally) {
  const auto add = [&](double misfit, double sigma, int column) {
    tally.priors.add(misfit / sigma);
    tally.priors.redundancy += 1 - out.inverse(column, column) / (sigma * sigma);
  };
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; out.layout.camera[i] >= 0 && k < out.layout.free.size(); ++k) {
      const double sigma = block.priors[i].sigma[out.layout.free[k]];
      if (!(sigma > 0)) continue;
      add(block.cameras[i].interior[out.layout.free[k]] - block.priors[i].value[out.layout.free[k]], sigma,
          out.layout.camera[i] + static_cast<int>(k));
    }
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (out.layout.motion[i] < 0) continue;
    const auto sigma = motion_sigma(block.stations[i]), misfit = motion_misclosure(block.stations[i]);
    for (int k = 0; k < 6; ++k) add(-misfit[k] * sigma[k], sigma[k], out.layout.motion[i] + k);
  }
}

void report_groups(Tally& tally, AdjustResult& out) {
  // What the others leave: of millions of rays each one's own is not computed.
  tally.ties.redundancy = out.redundancy - tally.sightings.redundancy - tally.plan.redundancy -
                          tally.height.redundancy - tally.bars.redundancy - tally.positions.redundancy -
                          tally.attitudes.redundancy - tally.verticals.redundancy - tally.priors.redundancy;
  const std::pair<GroupOf, const Sum*> groups[] = {
      {GroupOf::ties, &tally.ties},           {GroupOf::sightings, &tally.sightings},
      {GroupOf::control_plan, &tally.plan},   {GroupOf::control_height, &tally.height},
      {GroupOf::scale_bars, &tally.bars},     {GroupOf::positions, &tally.positions},
      {GroupOf::attitudes, &tally.attitudes}, {GroupOf::verticals, &tally.verticals},
      {GroupOf::priors, &tally.priors}};
  for (const auto& [of, sum] : groups) {
    if (sum->n == 0) continue;
    const double r = sum->redundancy;
    // Below a hundredth of an observation a group is not controlled by the others, and its sigma0 says nothing.
    const double divisor = r > 0.01 ? r : nan;
    out.groups.push_back({of, sum->n, r, std::sqrt(sum->squares / divisor)});
  }
}

}  // namespace

Tested tested(double residual, double sigma, double adjusted_variance) {
  constexpr double delta0 = 4.13;  // of alpha 0.001 and power 0.80 (Baarda 1968)
  Tested out;
  out.residual = residual;
  out.redundancy = 1 - adjusted_variance / (sigma * sigma);
  if (!(out.redundancy > 1e-6)) return out;  // nothing controls it: w would be a quotient of roundings
  out.w = residual / (sigma * std::sqrt(out.redundancy));
  out.gross = -residual / out.redundancy;
  out.detectable = delta0 * sigma / std::sqrt(out.redundancy);
  return out;
}

double critical_among(std::size_t tests) {
  // Bonferroni: of so many tests together one in twenty surveys accuses a right one.
  const double alpha = 0.05 / static_cast<double>(std::max<std::size_t>(1, tests));
  return std::max(critical_w, boost::math::quantile(boost::math::complement(boost::math::normal(), alpha / 2)));
}

void judge(Block& block, const Scope& scope, AdjustResult& out) {
  Tally tally;
  const JointTests joint(block, out);
  tally_ties(block, tally);
  out.tie_points = tally.points;
  if (scope.control) tally_control(block, joint, out, tally);
  tally_sorties(block, tally, out);
  tally_verticals(block, out, tally);
  tally_priors(block, out, tally);
  if (scope.control) judge_bars(block, tally, out);
  double squares = 0;
  for (const Sum* sum : {&tally.ties, &tally.sightings, &tally.plan, &tally.height, &tally.bars, &tally.positions,
                         &tally.attitudes, &tally.verticals, &tally.priors}) {
    out.observations += sum->n;
    squares += sum->squares;
  }
  // Held coordinate and ends of bars aside: none of them is unknown twice.
  out.unknowns = out.layout.columns + 3 * tally.points - tally.columns_of_ends - (scope.held.first >= 0 ? 1 : 0);
  out.redundancy = out.observations - out.unknowns;
  out.sigma0 = out.redundancy > 0 ? std::sqrt(squares / out.redundancy) : nan;
  out.reprojection_rms_px = tally.image_points ? std::sqrt(tally.pixels2 / tally.image_points) : nan;
  out.rejected_share = tally.candidates ? 1.0 - static_cast<double>(tally.ties.n / 2) / tally.candidates : nan;
  out.gsd = ground_sampling_distance(block);
  // Before points are judged: leaving points out reads the stations' covariances.
  predict_stations(block, out);
  if (scope.control) judge_surveyed(block, joint, tally, out);
  std::stable_sort(out.suspects.begin(), out.suspects.end(),
                   [](const Suspect& a, const Suspect& b) { return std::abs(a.w) > std::abs(b.w); });
  report_groups(tally, out);
}

}  // namespace mesograph::adjust
