#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/class_check.hpp>
#include <mesograph/cloud/place_grid.hpp>

namespace mesograph::cloud {

double Confusion::recall(int of) const {
  double all = 0, hit = 0;
  for (const auto& [pair, n] : count)
    if (pair.first == of) all += static_cast<double>(n), hit += pair.second == of ? static_cast<double>(n) : 0;
  return all > 0 ? hit / all : nan;
}

double Confusion::precision(int of) const {
  double all = 0, hit = 0;
  for (const auto& [pair, n] : count)
    if (pair.second == of) all += static_cast<double>(n), hit += pair.first == of ? static_cast<double>(n) : 0;
  return all > 0 ? hit / all : nan;
}

Confusion check_classes(LasReader& file, const std::vector<ClassSample>& sample, double reach, Progress& progress) {
  std::vector<Eigen::Vector2d> places;
  for (const ClassSample& s : sample) places.push_back(s.X.head<2>());
  const PlaceGrid grid(places, reach);
  struct Nearest {
    double distance = INFINITY;
    int said = -1;
  };
  std::vector<Nearest> nearest(sample.size());
  for_each_point(file, progress, [&](const LasPoints& points, std::size_t i) {
    const Eigen::Vector3d X = points.at(i);
    grid.around(X.head<2>(), [&](std::size_t k) {
      const Eigen::Vector3d d = X - sample[k].X;
      const double distance = std::isfinite(d.z()) ? d.norm() : d.head<2>().norm();
      if (distance <= reach && distance < nearest[k].distance) nearest[k] = {distance, points.point_class(i)};
    });
  });
  Confusion out;
  for (std::size_t k = 0; k < sample.size(); ++k) {
    if (nearest[k].said < 0)
      ++out.nowhere;
    else
      ++out.count[{sample[k].point_class, nearest[k].said}];
  }
  return out;
}

std::vector<ClassSample> sample_of(LasReader& file) {
  std::vector<ClassSample> out;
  file.rewind();
  for (LasPoints points = file.next(); points.size() > 0; points = file.next())
    for (std::size_t i = 0; i < points.size(); ++i)
      if (points.point_class(i) > 1) out.push_back({points.at(i), points.point_class(i)});
  return out;
}

std::vector<ClassSample> read_sample(const std::filesystem::path& path) {
  const CsvTable table(path, {"east", "north", "class"});
  std::vector<ClassSample> out;
  for (std::size_t row = 0; row < table.rows(); ++row) {
    const double of = table.required_number(row, "class");
    if (!(of >= 0 && of <= 255) || of != std::floor(of))
      throw Error("{}: class {:g} is none; give whole numbers as in LAS, 0 to 255", table.where(row), of);
    out.push_back({{table.required_number(row, "east"), table.required_number(row, "north"),
                    table.number(row, "height").value_or(nan)},
                   static_cast<int>(of)});
  }
  return out;
}

}  // namespace mesograph::cloud
