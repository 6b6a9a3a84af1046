#include <Eigen/Geometry>
#include <algorithm>
#include <mesograph/mesh/model.hpp>

namespace mesograph::mesh {

std::vector<std::array<std::uint8_t, 3>> Model::colours() const {
  std::vector<std::array<std::uint8_t, 3>> out(mesh.X.size(), {160, 160, 160});
  if (texture.empty()) return out;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (texture.page[f] < 0) continue;
    const photo::Rgb& page = texture.pages[static_cast<std::size_t>(texture.page[f])];
    for (std::size_t k = 0; k < 3; ++k) {
      const Eigen::Vector2f at = texture.at[f][k];
      const int col = std::clamp(static_cast<int>(at.x() * static_cast<float>(page.width)), 0, page.width - 1),
                row = std::clamp(static_cast<int>(at.y() * static_cast<float>(page.height)), 0, page.height - 1);
      for (int ch = 0; ch < 3; ++ch)
        out[static_cast<std::size_t>(mesh.faces[f][k])][static_cast<std::size_t>(ch)] = page.at(col, row, ch);
    }
  }
  return out;
}

std::vector<Eigen::Vector3f> Model::normals() const {
  std::vector<Eigen::Vector3d> sums(mesh.X.size(), Eigen::Vector3d::Zero());
  for (const Face& f : mesh.faces) {
    const Eigen::Vector3d n = mesh.normal(f);
    for (const std::int32_t v : f) sums[static_cast<std::size_t>(v)] += n;
  }
  std::vector<Eigen::Vector3f> out;
  out.reserve(sums.size());
  for (const Eigen::Vector3d& n : sums)
    out.push_back(n.norm() > 0 ? Eigen::Vector3f(n.normalized().cast<float>()) : Eigen::Vector3f::UnitZ());
  return out;
}

}  // namespace mesograph::mesh
