#include <CGAL/Constrained_Delaunay_triangulation_2.h>
#include <CGAL/Exact_predicates_inexact_constructions_kernel.h>
#include <CGAL/Triangulation_face_base_with_info_2.h>
#include <CGAL/Triangulation_vertex_base_with_info_2.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/mesh/height_field.hpp>
#include <queue>

namespace mesograph::mesh {

namespace {

using FieldKernel = CGAL::Exact_predicates_inexact_constructions_kernel;

/// What a triangle knows of its cells.
struct Worst {
  double error = 0;      ///< m
  std::size_t cell = 0;  ///< that has it
  std::uint32_t stamp = 0;
  int inside = -1;  ///< 1: part of the surface; -1: not asked yet
};
struct Corner {
  double z = std::numeric_limits<double>::quiet_NaN();
  float sigma = std::numeric_limits<float>::quiet_NaN();
  std::int32_t number = -1;
};
using FieldVertex = CGAL::Triangulation_vertex_base_with_info_2<Corner, FieldKernel>;
using FieldFace = CGAL::Triangulation_face_base_with_info_2<Worst, FieldKernel,
                                                            CGAL::Constrained_triangulation_face_base_2<FieldKernel>>;
/// Lines may cross each other, and rims: they get a corner there.
using Field = CGAL::Constrained_Delaunay_triangulation_2<
    FieldKernel, CGAL::Triangulation_data_structure_2<FieldVertex, FieldFace>, CGAL::Exact_predicates_tag>;
using Chain = std::vector<Eigen::Vector2d>;  ///< in cells: column and row of middles

class Builder {
 public:
  Builder(const surface::Surface& surface, const HeightFieldOptions& options) : s_(surface), options_(options) {
    const surface::Grid& g = s_.grid;
    part_.assign(g.size(), false);
    for (int row = 0; row + 1 < g.rows; ++row)
      for (int col = 0; col + 1 < g.columns; ++col)
        if (whole(col, row))
          part_[g.at(col, row)] = part_[g.at(col + 1, row)] = part_[g.at(col, row + 1)] =
              part_[g.at(col + 1, row + 1)] = true;
  }

  TriangleMesh run() {
    for (const Chain& rim : rims()) add_line(rim, true);
    if (field_.dimension() < 2)
      throw Error("mesh: no four cells of the raster that lie beside each other have heights");
    for (const std::vector<Eigen::Vector2d>& line : options_.breaklines) add_breakline(line);
    mark_inside();
    for (const auto face : field_.finite_face_handles()) look_at(face);
    while (!open_.empty()) {
      const Open next = open_.top();
      open_.pop();
      if (next.face->info().stamp != next.stamp) continue;
      const surface::Grid& g = s_.grid;
      const auto vertex = field_.insert(
          {static_cast<double>(g.column_of(next.cell)), static_cast<double>(g.row_of(next.cell))}, next.face);
      set(vertex);
      // All that changed lies around the new corner.
      auto face = field_.incident_faces(vertex);
      const auto first = face;
      do {
        if (!field_.is_infinite(face)) look_at(face);
      } while (++face != first);
    }
    mark_inside();
    return mesh();
  }

 private:
  const surface::Surface& s_;
  const HeightFieldOptions& options_;
  std::vector<bool> part_;  ///< cells of the surface: corners of a square of four that all have heights
  Field field_;
  std::uint32_t stamp_ = 0;
  struct Open {
    double error;
    std::size_t cell;
    Field::Face_handle face;
    std::uint32_t stamp;
    bool operator<(const Open& o) const { return std::tie(error, o.cell) < std::tie(o.error, cell); }
  };
  std::priority_queue<Open> open_;

  bool has(int col, int row) const { return s_.grid.inside(col, row) && std::isfinite(s_.z[s_.grid.at(col, row)]); }
  /// Whether the square between the middles of four cells is part of the surface.
  bool whole(int col, int row) const {
    return has(col, row) && has(col + 1, row) && has(col, row + 1) && has(col + 1, row + 1);
  }
  /// Height at a place in cells, by the cells around it that have some.
  Corner at(double col, double row) const {
    Corner out;
    double sum = 0, weight = 0, sigma = 0;
    const int c = static_cast<int>(std::floor(col)), r = static_cast<int>(std::floor(row));
    for (int dr = 0; dr < 2; ++dr)
      for (int dc = 0; dc < 2; ++dc) {
        if (!has(c + dc, r + dr)) continue;
        const double w = (1 - std::abs(col - c - dc)) * (1 - std::abs(row - r - dr));
        const std::size_t i = s_.grid.at(c + dc, r + dr);
        sum += w * s_.z[i], weight += w;
        sigma += w > 0 ? w * (s_.source[i] == surface::Source::measured ? s_.sigma[i]
                                                                        : std::numeric_limits<double>::quiet_NaN())
                       : 0;
      }
    if (weight > 0) out.z = sum / weight, out.sigma = static_cast<float>(sigma / weight);
    return out;
  }
  void set(Field::Vertex_handle v) {
    if (std::isnan(v->info().z)) v->info() = at(v->point().x(), v->point().y());
  }

  /// Closed chains of cells around the surface and its holes.
  std::vector<Chain> rims() const {
    std::map<std::pair<int, int>, std::vector<std::pair<int, int>>> next;  // row, column
    const auto side = [&](int c0, int r0, int c1, int r1) { next[{r0, c0}].emplace_back(r1, c1); };
    for (int row = -1; row < s_.grid.rows; ++row)
      for (int col = -1; col < s_.grid.columns; ++col) {
        if (!whole(col, row)) continue;
        if (!whole(col, row - 1)) side(col, row, col + 1, row);
        if (!whole(col + 1, row)) side(col + 1, row, col + 1, row + 1);
        if (!whole(col, row + 1)) side(col + 1, row + 1, col, row + 1);
        if (!whole(col - 1, row)) side(col, row + 1, col, row);
      }
    std::vector<Chain> out;
    while (!next.empty()) {
      Chain chain;
      auto at = next.begin();
      const std::pair<int, int> first = at->first;
      do {
        chain.emplace_back(at->first.second, at->first.first);
        const std::pair<int, int> to = at->second.back();
        at->second.pop_back();
        if (at->second.empty()) next.erase(at);
        if (to == first) break;
        at = next.find(to);
      } while (at != next.end());
      out.push_back(std::move(chain));
    }
    return out;
  }

  /// How far a place of a line is from the straight way between two others: in cells, or in heights as many times the
  /// tolerance, whichever is more; above 1 it is needed.
  double strays(const Eigen::Vector2d& p, const Eigen::Vector2d& a, const Eigen::Vector2d& b) const {
    constexpr double cells = 0.75;
    const double length = (b - a).squaredNorm(), t = length > 0 ? std::clamp((p - a).dot(b - a) / length, 0.0, 1.0) : 0;
    const double off = (p - a - t * (b - a)).norm() / cells;
    const double z = at(p.x(), p.y()).z - ((1 - t) * at(a.x(), a.y()).z + t * at(b.x(), b.y()).z);
    return std::isfinite(z) ? std::max(off, std::abs(z) / options_.tolerance) : off;
  }
  /// Douglas and Peucker (1973), between two places of a chain.
  void thin(const Chain& chain, std::size_t from, std::size_t to, std::vector<bool>& kept) const {
    std::vector<std::pair<std::size_t, std::size_t>> open = {{from, to}};
    while (!open.empty()) {
      const auto [a, b] = open.back();
      open.pop_back();
      double most = 1;
      std::size_t at = 0;
      for (std::size_t i = a + 1; i < b; ++i)
        if (const double off = strays(chain[i], chain[a], chain[b]); off > most) most = off, at = i;
      if (at == 0) continue;
      kept[at] = true;
      open.emplace_back(a, at), open.emplace_back(at, b);
    }
  }
  void add_line(const Chain& chain, bool closed) {
    Chain all = chain;
    if (closed) all.push_back(chain.front());
    std::vector<bool> kept(all.size(), false);
    kept.front() = kept.back() = true;
    if (closed) {  // two fixed places part a ring
      const std::size_t middle = all.size() / 2;
      kept[middle] = true;
      thin(all, 0, middle, kept), thin(all, middle, all.size() - 1, kept);
    } else {
      thin(all, 0, all.size() - 1, kept);
    }
    Field::Vertex_handle last;
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (!kept[i]) continue;
      const auto vertex = field_.insert({all[i].x(), all[i].y()});
      set(vertex);
      if (last != Field::Vertex_handle() && last != vertex) field_.insert_constraint(last, vertex);
      last = vertex;
    }
  }
  void add_breakline(const std::vector<Eigen::Vector2d>& line) {
    const surface::Grid& g = s_.grid;
    Chain chain;
    const auto end_part = [&] {
      if (chain.size() > 1) add_line(chain, false);
      chain.clear();
    };
    for (std::size_t i = 0; i + 1 < line.size(); ++i) {
      const int n = std::max(1, static_cast<int>(std::ceil((line[i + 1] - line[i]).norm() / g.cell)));
      for (int k = 0; k <= n; ++k) {
        const Eigen::Vector2d X = line[i] + static_cast<double>(k) / n * (line[i + 1] - line[i]);
        const Eigen::Vector2d p((X.x() - g.west) / g.cell - 0.5, (g.north - X.y()) / g.cell - 0.5);
        if (!whole(static_cast<int>(std::floor(p.x())), static_cast<int>(std::floor(p.y()))))
          end_part();
        else if (chain.empty() || (chain.back() - p).norm() > 1e-6)
          chain.push_back(p);
      }
    }
    end_part();
  }

  /// Rims part what is inside from what is not; breaklines have it on both sides.
  void mark_inside() {
    for (const auto face : field_.all_face_handles()) face->info().inside = -1;
    for (const auto face : field_.finite_face_handles()) {
      const auto middle = CGAL::centroid(face->vertex(0)->point(), face->vertex(1)->point(), face->vertex(2)->point());
      // Rims are followed to three quarters of a cell: a triangle is inside where most of it is.
      face->info().inside = whole(static_cast<int>(std::floor(middle.x())), static_cast<int>(std::floor(middle.y())));
    }
  }

  /// Finds the cell of a triangle that is furthest from it.
  void look_at(Field::Face_handle face) {
    Worst& w = face->info();
    w.stamp = ++stamp_, w.error = 0;
    const auto p = [&](int k) { return Eigen::Vector2d(face->vertex(k)->point().x(), face->vertex(k)->point().y()); };
    const Eigen::Vector2d a = p(0), b = p(1) - a, c = p(2) - a;
    const double area = b.x() * c.y() - b.y() * c.x();
    if (!(std::abs(area) > 1e-9)) return;
    const double za = face->vertex(0)->info().z, zb = face->vertex(1)->info().z, zc = face->vertex(2)->info().z;
    const int first_row = static_cast<int>(std::ceil(std::min({0.0, b.y(), c.y()}) + a.y())),
              last_row = static_cast<int>(std::floor(std::max({0.0, b.y(), c.y()}) + a.y()));
    for (int row = std::max(0, first_row); row <= std::min(s_.grid.rows - 1, last_row); ++row) {
      // The triangle's part of the row.
      double low = std::numeric_limits<double>::infinity(), high = -low;
      for (int k = 0; k < 3; ++k) {
        const Eigen::Vector2d from = p(k), to = p((k + 1) % 3);
        if ((from.y() - row) * (to.y() - row) > 0) continue;
        const double t = from.y() == to.y() ? 0 : (row - from.y()) / (to.y() - from.y());
        for (const double x :
             {from.x() + t * (to.x() - from.x()), from.y() == to.y() ? to.x() : from.x() + t * (to.x() - from.x())})
          low = std::min(low, x), high = std::max(high, x);
      }
      for (int col = std::max(0, static_cast<int>(std::ceil(low - 1e-9)));
           col <= std::min(s_.grid.columns - 1, static_cast<int>(std::floor(high + 1e-9))); ++col) {
        const std::size_t cell = s_.grid.at(col, row);
        if (!part_[cell]) continue;
        const Eigen::Vector2d d = Eigen::Vector2d(col, row) - a;
        const double v = (d.x() * c.y() - d.y() * c.x()) / area, u = (b.x() * d.y() - b.y() * d.x()) / area;
        const double error = std::abs(s_.z[cell] - (za + v * (zb - za) + u * (zc - za)));
        if (error > w.error) w.error = error, w.cell = cell;
      }
    }
    if (w.error > options_.tolerance && !is_corner(face, w.cell)) open_.push({w.error, w.cell, face, w.stamp});
  }
  bool is_corner(Field::Face_handle face, std::size_t cell) const {
    for (int k = 0; k < 3; ++k)
      if (face->vertex(k)->point().x() == s_.grid.column_of(cell) &&
          face->vertex(k)->point().y() == s_.grid.row_of(cell))
        return true;
    return false;
  }

  TriangleMesh mesh() {
    TriangleMesh out;
    const surface::Grid& g = s_.grid;
    std::vector<std::array<Field::Vertex_handle, 3>> faces;
    for (const auto face : field_.finite_face_handles())
      if (face->info().inside == 1) faces.push_back({face->vertex(0), face->vertex(1), face->vertex(2)});
    for (const auto& corners : faces) {
      Face f{};
      for (std::size_t k = 0; k < 3; ++k) {
        Corner& c = corners[k]->info();
        set(corners[k]);  // crossings of lines
        if (c.number < 0) {
          c.number = static_cast<std::int32_t>(out.X.size());
          out.X.emplace_back(g.west + (corners[k]->point().x() + 0.5) * g.cell,
                             g.north - (corners[k]->point().y() + 0.5) * g.cell, c.z);
          out.sigma.push_back(c.sigma);
        }
        f[k] = c.number;
      }
      std::swap(f[1], f[2]);  // rows run southwards
      out.faces.push_back(f);
    }
    return out;
  }
};

}  // namespace

TriangleMesh height_field(const surface::Surface& surface, const HeightFieldOptions& options) {
  return Builder(surface, options).run();
}

}  // namespace mesograph::mesh
