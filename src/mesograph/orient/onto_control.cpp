#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/orient/onto_control.hpp>
#include <mesograph/orient/similarity.hpp>

namespace mesograph::orient {

void move_onto_control(adjust::Block& block, const std::string& what) {
  std::vector<Eigen::Vector3d> source, target;
  for (adjust::SurveyedPoint& p : block.surveyed) {
    if (p.role != adjust::Role::control || !p.known_in_space()) continue;
    // A degree between rays: less leaves the height to the noise, and with it the tilt of all.
    if (!adjust::place(block, p.point, 0.02)) continue;
    source.push_back(p.point.X);
    target.push_back(p.surveyed);
  }
  const auto n = static_cast<Eigen::Index>(source.size());
  std::optional<Similarity> fit;
  if (n >= 3) {
    const Eigen::Map<Eigen::Matrix3Xd> from(source[0].data(), 3, n), onto(target[0].data(), 3, n);
    fit = similarity(from, onto, width_of_line(onto));
  }
  if (!fit)
    throw Error(
        "{}: a local survey needs three control points, not on one line, each sighted in two photos; {} are: "
        "add control or sightings",
        what, n);
  transform(block, *fit);
}

}  // namespace mesograph::orient
