#include <algorithm>
#include <map>
#include <mesograph/mesh/atlas.hpp>
#include <mesograph/mesh/model_parts.hpp>

namespace mesograph::mesh {

namespace {

/// Pieces of the model's pages on pages of the part's own.
Texture texture_of(const Model& model, const TriangleMesh& mesh, const std::vector<std::int32_t>& faces, int page) {
  const Texture& from = model.texture;
  Texture out;
  std::vector<std::int32_t> chart;  // each is a photo of its own, cut out where it lies on its page
  std::vector<std::array<Eigen::Vector2f, 3>> at;
  std::map<std::int32_t, std::int32_t> page_of;
  for (const std::int32_t f : faces) {
    const auto i = static_cast<std::size_t>(f);
    chart.push_back(from.page[i] < 0 ? -1 : from.chart[i]);
    at.push_back(from.at[i]);
    if (from.page[i] < 0) continue;
    page_of[from.chart[i]] = from.page[i];
    const photo::Rgb& picture = from.pages[static_cast<std::size_t>(from.page[i])];
    for (Eigen::Vector2f& x : at.back())
      x = x.cwiseProduct(Eigen::Vector2f(static_cast<float>(picture.width), static_cast<float>(picture.height)));
  }
  AtlasOptions options;
  options.page = page;
  const Atlas atlas = make_atlas(mesh, chart, at, options);
  for (const auto& [width, height] : atlas.pages) out.pages.emplace_back(width, height, 3);
  for (const Chart& c : atlas.charts) {
    const photo::Rgb& source = from.pages[static_cast<std::size_t>(page_of.at(c.photo))];
    photo::Rgb& target = out.pages[static_cast<std::size_t>(c.page)];
    for (int row = 0; row < c.height; ++row)
      for (int col = 0; col < c.width; ++col)
        for (int ch = 0; ch < 3; ++ch)
          target.at(c.col + col, c.row + row, ch) = source.at(std::clamp(c.left + col, 0, source.width - 1),
                                                              std::clamp(c.top + row, 0, source.height - 1), ch);
  }
  out.page.assign(faces.size(), -1), out.at.resize(faces.size()), out.chart = atlas.chart;
  for (std::size_t f = 0; f < faces.size(); ++f) {
    if (chart[f] < 0) continue;
    const Chart& c = atlas.charts[static_cast<std::size_t>(atlas.chart[f])];
    const photo::Rgb& target = out.pages[static_cast<std::size_t>(c.page)];
    out.page[f] = c.page;
    for (std::size_t k = 0; k < 3; ++k)
      out.at[f][k] =
          (at[f][k] + Eigen::Vector2f(static_cast<float>(c.col - c.left), static_cast<float>(c.row - c.top)))
              .cwiseQuotient(Eigen::Vector2f(static_cast<float>(target.width), static_cast<float>(target.height)));
  }
  return out;
}

}  // namespace

Model part_of(const Model& model, const std::vector<std::int32_t>& faces, int page) {
  Model out;
  out.name = model.name, out.wkt = model.wkt, out.shift = model.shift, out.metres = model.metres;
  std::map<std::int32_t, std::int32_t> number;
  for (const std::int32_t f : faces) {
    Face face{};
    for (std::size_t k = 0; k < 3; ++k) {
      const std::int32_t v = model.mesh.faces[static_cast<std::size_t>(f)][k];
      const auto [found, fresh] = number.try_emplace(v, static_cast<std::int32_t>(out.mesh.X.size()));
      if (fresh) {
        out.mesh.X.push_back(model.mesh.at(v));
        out.mesh.sigma.push_back(model.mesh.sigma[static_cast<std::size_t>(v)]);
      }
      face[k] = found->second;
    }
    out.mesh.faces.push_back(face);
  }
  if (!model.texture.empty()) out.texture = texture_of(model, out.mesh, faces, page);
  return out;
}

std::vector<std::pair<PlanSquare, std::vector<std::int32_t>>> by_plan_squares(const TriangleMesh& mesh,
                                                                              const Eigen::AlignedBox2d& box,
                                                                              int level) {
  const int n = 1 << level;
  const double side = box.sizes().maxCoeff() / n;
  std::map<PlanSquare, std::vector<std::int32_t>> squares;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Face& face = mesh.faces[f];
    const Eigen::Vector2d middle = (mesh.at(face[0]) + mesh.at(face[1]) + mesh.at(face[2])).head<2>() / 3;
    const Eigen::Vector2d place = (middle - box.min()) / std::max(side, 1e-9);
    squares[{level, std::clamp(static_cast<int>(place.x()), 0, n - 1),
             std::clamp(static_cast<int>(place.y()), 0, n - 1)}]
        .push_back(static_cast<std::int32_t>(f));
  }
  return {squares.begin(), squares.end()};
}

}  // namespace mesograph::mesh
