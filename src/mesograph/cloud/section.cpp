#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/section.hpp>
#include <tuple>

namespace mesograph::cloud {

std::vector<SectionPoint> points_along(LasReader& file, const SectionLine& line, Progress& progress) {
  const double length = (line.to - line.from).norm();
  const Eigen::Vector2d d = (line.to - line.from) / length;
  const bool eight_bit = has_eight_bit_colours(file);
  Eigen::AlignedBox2d band(line.from);
  band.extend(line.to);
  const Eigen::Vector2d beside = Eigen::Vector2d::Constant(line.width);
  file.only({Eigen::Vector2d(band.min() - beside), Eigen::Vector2d(band.max() + beside)});
  const LasAttribute* sigma = sigma_of(file.header());
  std::vector<SectionPoint> out;
  file.rewind();
  progress.start("reading", file.to_read());
  for (LasPoints batch = file.next(); batch.size() > 0; batch = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < batch.size(); ++i) {
      const Eigen::Vector3d X = batch.at(i);
      const Eigen::Vector2d v = X.head<2>() - line.from;
      const double along = v.dot(d), across = d.y() * v.x() - d.x() * v.y();
      if (along < 0 || along > length || std::abs(across) > 0.5 * line.width) continue;
      out.push_back({along, X.z(), across, batch.colour(i, eight_bit), batch.point_class(i),
                     sigma ? batch.value(i, *sigma) : nan});
    }
    progress.advance(batch.size());
  }
  // By values alone, not by the file's order: the table is the same for a cloud that was tiled otherwise.
  std::sort(out.begin(), out.end(), [](const SectionPoint& p, const SectionPoint& q) {
    return std::tie(p.along, p.height, p.across) < std::tie(q.along, q.height, q.across);
  });
  return out;
}

std::string section_table(const std::vector<SectionPoint>& points) {
  std::string out = "along,height,across,class,red,green,blue,sigma\n";
  for (const SectionPoint& p : points)
    out += fmt::format("{:.5f},{:.5f},{:.5f},{},{},{},{},{}\n", p.along, p.height, p.across, p.point_class, p.colour[0],
                       p.colour[1], p.colour[2], std::isfinite(p.sigma) ? fmt::format("{:.5f}", p.sigma) : "");
  return out;
}

}  // namespace mesograph::cloud
