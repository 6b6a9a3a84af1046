#include <Eigen/Geometry>
#include <Eigen/IterativeLinearSolvers>
#include <Eigen/SparseCore>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/threads.hpp>
#include <mesograph/mesh/level_seams.hpp>
#include <mesograph/mesh/topology.hpp>

namespace mesograph::mesh {

namespace {

using Colour = Eigen::Vector3f;

/// A side whose faces are of two charts.
struct Seam {
  std::int32_t a, b;  ///< vertices
  std::int32_t face_one, face_other;
};

std::vector<Seam> seams_of(const Pages& p) {
  std::vector<Seam> out;
  for_each_edge(edge_uses(p.mesh.faces), [&](std::span<const EdgeUse> edge) {
    if (edge.size() != 2) return;
    const std::int32_t one = p.atlas.chart[static_cast<std::size_t>(edge[0].face)],
                       other = p.atlas.chart[static_cast<std::size_t>(edge[1].face)];
    if (one >= 0 && other >= 0 && one != other) out.push_back({edge[0].a, edge[0].b, edge[0].face, edge[1].face});
  });
  return out;
}

const Chart& chart_of(const Pages& p, std::int32_t face) {
  return p.atlas.charts[static_cast<std::size_t>(p.atlas.chart[static_cast<std::size_t>(face)])];
}

Eigen::Vector2f corner(const Pages& p, std::int32_t face, std::int32_t vertex) {
  const Face& f = p.mesh.faces[static_cast<std::size_t>(face)];
  const std::size_t k = f[0] == vertex ? 0 : f[1] == vertex ? 1 : 2;
  return p.on_page(chart_of(p, face), p.at[static_cast<std::size_t>(face)][k]);
}

/// Bilinear, clamped to the page.
Colour look(const photo::Rgb& page, const Eigen::Vector2f& x) {
  const float fx = std::clamp(x.x() - 0.5F, 0.0F, static_cast<float>(page.width) - 1.001F),
              fy = std::clamp(x.y() - 0.5F, 0.0F, static_cast<float>(page.height) - 1.001F);
  const int col = static_cast<int>(fx), row = static_cast<int>(fy);
  const float tx = fx - static_cast<float>(col), ty = fy - static_cast<float>(row);
  Colour out;
  for (int ch = 0; ch < 3; ++ch) {
    const auto at = [&](int c, int r) { return static_cast<float>(page.at(c, r, ch)); };
    out[ch] = (1 - ty) * ((1 - tx) * at(col, row) + tx * at(col + 1, row)) +
              ty * ((1 - tx) * at(col, row + 1) + tx * at(col + 1, row + 1));
  }
  return out;
}

/// visit(t, one side's colour, the other's), t from 0 to 1 along the seam, every two pixels.
template <typename Visit>
void along(const Pages& p, const Seam& s, const Visit& visit) {
  const Eigen::Vector2f a1 = corner(p, s.face_one, s.a), b1 = corner(p, s.face_one, s.b),
                        a2 = corner(p, s.face_other, s.a), b2 = corner(p, s.face_other, s.b);
  const photo::Rgb &one = p.pages[static_cast<std::size_t>(chart_of(p, s.face_one).page)],
                   &other = p.pages[static_cast<std::size_t>(chart_of(p, s.face_other).page)];
  const int n = std::max(2, static_cast<int>((b1 - a1).norm() / 2));
  for (int i = 0; i <= n; ++i) {
    const float t = static_cast<float>(i) / static_cast<float>(n);
    visit(t, look(one, a1 + t * (b1 - a1)), look(other, a2 + t * (b2 - a2)));
  }
}

/// What is added at each chart's vertices.
class Levels {
 public:
  Levels(const Pages& p, const std::vector<Seam>& seams) : pages_(p) {
    for (std::size_t c = 0; c < p.atlas.charts.size(); ++c)
      for (const std::int32_t f : p.atlas.charts[c].faces)
        for (const std::int32_t v : p.mesh.faces[static_cast<std::size_t>(f)])
          nodes_.emplace_back(static_cast<std::int32_t>(c), v);
    std::sort(nodes_.begin(), nodes_.end());
    nodes_.erase(std::unique(nodes_.begin(), nodes_.end()), nodes_.end());
    solve(seams);
  }
  Colour at(std::int32_t face, std::size_t corner) const {
    return level_[index(pages_.atlas.chart[static_cast<std::size_t>(face)],
                        pages_.mesh.faces[static_cast<std::size_t>(face)][corner])];
  }

 private:
  const Pages& pages_;
  std::vector<std::pair<std::int32_t, std::int32_t>> nodes_;  ///< chart, vertex
  std::vector<Colour> level_;

  std::size_t index(std::int32_t chart, std::int32_t vertex) const {
    return static_cast<std::size_t>(std::lower_bound(nodes_.begin(), nodes_.end(), std::pair(chart, vertex)) -
                                    nodes_.begin());
  }
  /// By how much one chart is brighter than another at a vertex that both have, over the sides that meet there.
  struct Difference {
    Eigen::Vector3d sum = Eigen::Vector3d::Zero();
    double weight = 0;
  };
  std::map<std::pair<std::size_t, std::size_t>, Difference> differences(const std::vector<Seam>& seams) const {
    std::map<std::pair<std::size_t, std::size_t>, Difference> out;
    for (const Seam& s : seams) {
      const std::int32_t one = pages_.atlas.chart[static_cast<std::size_t>(s.face_one)],
                         other = pages_.atlas.chart[static_cast<std::size_t>(s.face_other)];
      std::array<Difference*, 2> ends{};
      std::array<double, 2> sign{};
      for (std::size_t k = 0; k < 2; ++k) {
        const std::int32_t v = k == 0 ? s.a : s.b;
        std::size_t i = index(one, v), j = index(other, v);
        sign[k] = i < j ? 1 : -1;
        if (j < i) std::swap(i, j);
        ends[k] = &out[{i, j}];
      }
      along(pages_, s, [&](float t, const Colour& x, const Colour& y) {
        for (std::size_t k = 0; k < 2; ++k) {
          const double w = k == 0 ? 1 - t : t;
          ends[k]->sum += sign[k] * w * (x - y).cast<double>(), ends[k]->weight += w;
        }
      });
    }
    return out;
  }
  void solve(const std::vector<Seam>& seams) {
    // What a vertex's level may differ from its neighbour's, and from nought, against the seams' 1: the one keeps
    // corrections from ending beside the seam, the other from wandering where nothing asks for one.
    constexpr double smooth = 0.3, small = 1e-3;
    const auto n = static_cast<Eigen::Index>(nodes_.size());
    std::vector<Eigen::Triplet<double>> entries;
    const auto tie = [&](std::size_t i, std::size_t j, double w) {
      const auto a = static_cast<Eigen::Index>(i), b = static_cast<Eigen::Index>(j);
      entries.emplace_back(a, a, w), entries.emplace_back(b, b, w);
      entries.emplace_back(a, b, -w), entries.emplace_back(b, a, -w);
    };
    for (Eigen::Index i = 0; i < n; ++i) entries.emplace_back(i, i, small);
    for (std::size_t c = 0; c < pages_.atlas.charts.size(); ++c)
      for (const std::int32_t f : pages_.atlas.charts[c].faces) {
        const Face& face = pages_.mesh.faces[static_cast<std::size_t>(f)];
        for (std::size_t k = 0; k < 3; ++k)
          tie(index(static_cast<std::int32_t>(c), face[k]), index(static_cast<std::int32_t>(c), face[(k + 1) % 3]),
              smooth / 2);
      }
    Eigen::MatrixXd right = Eigen::MatrixXd::Zero(n, 3);
    for (const auto& [pair, d] : differences(seams)) {
      if (!(d.weight > 0)) continue;
      tie(pair.first, pair.second, 1);
      const Eigen::Vector3d mean = d.sum / d.weight;
      right.row(static_cast<Eigen::Index>(pair.first)) -= mean.transpose();
      right.row(static_cast<Eigen::Index>(pair.second)) += mean.transpose();
    }
    Eigen::SparseMatrix<double> normal(n, n);
    normal.setFromTriplets(entries.begin(), entries.end());
    Eigen::ConjugateGradient<Eigen::SparseMatrix<double>, Eigen::Lower | Eigen::Upper> solver(normal);
    solver.setTolerance(1e-4);
    const Eigen::MatrixXd level = solver.solve(right);
    for (Eigen::Index i = 0; i < n; ++i) level_.emplace_back(level.row(i).transpose().cast<float>());
  }
};

/// visit(col, row, weights of the corners) for the pixels of a page whose middles lie in a triangle.
template <typename Visit>
void for_each_pixel(const std::array<Eigen::Vector2f, 3>& x, const Visit& visit) {
  const Eigen::Vector2f a = x[1] - x[0], b = x[2] - x[0];
  const float area = a.x() * b.y() - a.y() * b.x();
  if (std::abs(area) < 1e-9F) return;
  const auto low = [&](int k) { return static_cast<int>(std::ceil(std::min({x[0][k], x[1][k], x[2][k]}) - 0.5F)); };
  const auto high = [&](int k) { return static_cast<int>(std::floor(std::max({x[0][k], x[1][k], x[2][k]}) - 0.5F)); };
  for (int row = low(1); row <= high(1); ++row)
    for (int col = low(0); col <= high(0); ++col) {
      const Eigen::Vector2f d = Eigen::Vector2f(static_cast<float>(col) + 0.5F, static_cast<float>(row) + 0.5F) - x[0];
      const float v = (d.x() * b.y() - d.y() * b.x()) / area, w = (a.x() * d.y() - a.y() * d.x()) / area;
      constexpr float edge = -1e-4F;  // pixels on a side belong to both of its faces
      if (v >= edge && w >= edge && v + w <= 1 - edge) visit(col, row, std::array<float, 3>{1 - v - w, v, w});
    }
}

/// A chart's pixels while something is found for each.
template <typename Value>
struct Sheetlet {
  const Chart& chart;
  std::vector<Value> value;
  std::vector<std::uint8_t> known;

  explicit Sheetlet(const Chart& c)
      : chart(c), value(static_cast<std::size_t>(c.width) * c.height), known(value.size(), 0) {}
  bool inside(int col, int row) const {
    return col >= chart.col && row >= chart.row && col < chart.col + chart.width && row < chart.row + chart.height;
  }
  std::size_t at(int col, int row) const {
    return static_cast<std::size_t>(row - chart.row) * chart.width + (col - chart.col);
  }
  /// What is known goes on by so many pixels into what is not.
  void grow(int by) {
    std::vector<std::size_t> rim, next;
    for (std::size_t i = 0; i < known.size(); ++i)
      if (known[i]) rim.push_back(i);
    for (int round = 0; round < by; ++round, rim.swap(next)) {
      next.clear();
      for (const std::size_t i : rim) {
        const int col = static_cast<int>(i % chart.width), row = static_cast<int>(i / chart.width);
        for (const auto& [dc, dr] : {std::pair(1, 0), {-1, 0}, {0, 1}, {0, -1}}) {
          if (col + dc < 0 || row + dr < 0 || col + dc >= chart.width || row + dr >= chart.height) continue;
          const std::size_t j = static_cast<std::size_t>(row + dr) * chart.width + (col + dc);
          if (!known[j]) known[j] = 1, value[j] = value[i], next.push_back(j);
        }
      }
    }
  }
};

std::array<Eigen::Vector2f, 3> corners(const Pages& p, std::int32_t face) {
  const Chart& c = chart_of(p, face);
  const auto& at = p.at[static_cast<std::size_t>(face)];
  return {p.on_page(c, at[0]), p.on_page(c, at[1]), p.on_page(c, at[2])};
}

void set(photo::Rgb& page, int col, int row, const Colour& colour) {
  for (int ch = 0; ch < 3; ++ch)
    page.at(col, row, ch) = static_cast<std::uint8_t>(std::clamp(colour[ch] + 0.5F, 0.0F, 255.0F));
}
Colour get(const photo::Rgb& page, int col, int row) {
  return {static_cast<float>(page.at(col, row, 0)), static_cast<float>(page.at(col, row, 1)),
          static_cast<float>(page.at(col, row, 2))};
}

void add_levels(Pages& p, const Levels& levels) {
  parallel_for(p.atlas.charts.size(), 16, [&](std::size_t c) {
    const Chart& chart = p.atlas.charts[c];
    Sheetlet<Colour> sheet(chart);
    for (const std::int32_t f : chart.faces) {
      const std::array<Colour, 3> level = {levels.at(f, 0), levels.at(f, 1), levels.at(f, 2)};
      for_each_pixel(corners(p, f), [&](int col, int row, const std::array<float, 3>& w) {
        if (!sheet.inside(col, row)) return;
        sheet.value[sheet.at(col, row)] = w[0] * level[0] + w[1] * level[1] + w[2] * level[2];
        sheet.known[sheet.at(col, row)] = 1;
      });
    }
    constexpr int rim = 8;  // pixels beyond its faces that are looked at with them
    sheet.grow(rim);
    photo::Rgb& page = p.pages[static_cast<std::size_t>(chart.page)];
    for (int row = chart.row; row < chart.row + chart.height; ++row)
      for (int col = chart.col; col < chart.col + chart.width; ++col)
        if (sheet.known[sheet.at(col, row)]) set(page, col, row, get(page, col, row) + sheet.value[sheet.at(col, row)]);
  });
}

/// The nearest seam of a pixel.
struct Near {
  float distance = std::numeric_limits<float>::infinity();
  std::int32_t other = -1;  ///< chart beyond it
};

void note_seam(Sheetlet<Near>& sheet, const Eigen::Vector2f& a, const Eigen::Vector2f& b, std::int32_t other,
               float band) {
  const Eigen::Vector2f low = a.cwiseMin(b).array() - band, high = a.cwiseMax(b).array() + band;
  for (int row = static_cast<int>(low.y()); row <= static_cast<int>(high.y()); ++row)
    for (int col = static_cast<int>(low.x()); col <= static_cast<int>(high.x()); ++col) {
      if (!sheet.inside(col, row)) continue;
      const Eigen::Vector2f x(static_cast<float>(col) + 0.5F, static_cast<float>(row) + 0.5F);
      const float t = std::clamp((x - a).dot(b - a) / std::max(1e-9F, (b - a).squaredNorm()), 0.0F, 1.0F);
      const float distance = (x - a - t * (b - a)).norm();
      Near& near = sheet.value[sheet.at(col, row)];
      if (distance < near.distance) near = {distance, other};
    }
}

/// A chart fades into its neighbours' photos towards its seams.
void fade(Pages& p, const std::vector<photo::Rgb>& before, std::size_t c, const std::vector<const Seam*>& seams,
          int band) {
  const Chart& chart = p.atlas.charts[c];
  Sheetlet<Near> sheet(chart);
  for (const Seam* s : seams) {
    const bool first = p.atlas.chart[static_cast<std::size_t>(s->face_one)] == static_cast<std::int32_t>(c);
    const std::int32_t own = first ? s->face_one : s->face_other, beyond = first ? s->face_other : s->face_one;
    note_seam(sheet, corner(p, own, s->a), corner(p, own, s->b), p.atlas.chart[static_cast<std::size_t>(beyond)],
              static_cast<float>(band));
  }
  photo::Rgb& page = p.pages[static_cast<std::size_t>(chart.page)];
  for (const std::int32_t f : chart.faces) {
    const Face& face = p.mesh.faces[static_cast<std::size_t>(f)];
    for_each_pixel(corners(p, f), [&](int col, int row, const std::array<float, 3>& w) {
      if (!sheet.inside(col, row) || sheet.known[sheet.at(col, row)]) return;
      const Near& near = sheet.value[sheet.at(col, row)];
      if (!(near.distance < static_cast<float>(band))) return;
      sheet.known[sheet.at(col, row)] = 1;  // a pixel on a side is of two faces
      const Chart& other = p.atlas.charts[static_cast<std::size_t>(near.other)];
      const Eigen::Vector3d X = static_cast<double>(w[0]) * p.mesh.at(face[0]) +
                                static_cast<double>(w[1]) * p.mesh.at(face[1]) +
                                static_cast<double>(w[2]) * p.mesh.at(face[2]);
      const auto x = p.image(other.photo, X);
      if (!x) return;
      const Eigen::Vector2f there = p.on_page(other, x->cast<float>());
      constexpr float rim = 1;  // a chart's rectangle ends there
      if (there.x() < static_cast<float>(other.col) + rim || there.y() < static_cast<float>(other.row) + rim ||
          there.x() > static_cast<float>(other.col + other.width) - rim ||
          there.y() > static_cast<float>(other.row + other.height) - rim)
        return;
      const float share = 0.5F * (1 - near.distance / static_cast<float>(band));
      const Colour own = get(before[static_cast<std::size_t>(chart.page)], col, row);
      set(page, col, row, (1 - share) * own + share * look(before[static_cast<std::size_t>(other.page)], there));
    });
  }
}

}  // namespace

std::vector<double> seam_steps(const Pages& pages) {
  std::vector<double> out;
  for (const Seam& s : seams_of(pages))
    along(pages, s, [&](float, const Colour& x, const Colour& y) { out.push_back((x - y).cwiseAbs().mean()); });
  return out;
}

void level_seams(Pages& pages, int band) {
  const std::vector<Seam> seams = seams_of(pages);
  add_levels(pages, Levels(pages, seams));
  std::vector<std::vector<const Seam*>> of_chart(pages.atlas.charts.size());
  for (const Seam& s : seams)
    for (const std::int32_t f : {s.face_one, s.face_other})
      of_chart[static_cast<std::size_t>(pages.atlas.chart[static_cast<std::size_t>(f)])].push_back(&s);
  const std::vector<photo::Rgb> before = pages.pages;
  parallel_for(of_chart.size(), 16, [&](std::size_t c) {
    if (!of_chart[c].empty()) fade(pages, before, c, of_chart[c], band);
  });
}

}  // namespace mesograph::mesh
