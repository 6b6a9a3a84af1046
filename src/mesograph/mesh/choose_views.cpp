#include <algorithm>
#include <cmath>
#include <mesograph/mesh/choose_views.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/mosaic/max_flow.hpp>

namespace mesograph::mesh {

namespace {

/// A side that two faces share.
struct Side {
  std::int32_t one, other;
  float cost;  ///< of a seam, but for what photos differ by; and what a grey level of that costs
  float per_level;
};

class Choice {
 public:
  Choice(const TriangleMesh& mesh, const FaceViews& views, const ChoiceOptions& options)
      : views_(views), options_(options), label_(views.faces(), -1), best_(views.faces(), 0) {
    for (std::size_t f = 0; f < views.faces(); ++f)
      for (const View& v : views[f]) {
        best_[f] = std::max(best_[f], v.pixels);
      }
    for (std::size_t f = 0; f < views.faces(); ++f) {
      float least = 0;
      for (const View& v : views[f])
        if (const float cost = cost_of(f, v); label_[f] < 0 || cost < least) label_[f] = v.photo, least = cost;
    }
    double sum = 0;
    std::size_t n = 0;
    for_each_edge(edge_uses(mesh.faces), [&](std::span<const EdgeUse> edge) {
      if (edge.size() != 2) return;
      const double length = (mesh.at(edge[0].a) - mesh.at(edge[0].b)).norm();
      sum += length, ++n;
      sides_.push_back({edge[0].face, edge[1].face, static_cast<float>(length), 0});
    });
    for (Side& s : sides_) {
      const double part = std::min(3.0, s.cost * static_cast<double>(n) / sum);
      s.cost = static_cast<float>(options.of_length * part), s.per_level = static_cast<float>(options.of_step * part);
    }
    std::sort(sides_.begin(), sides_.end(),
              [](const Side& a, const Side& b) { return std::tie(a.one, a.other) < std::tie(b.one, b.other); });
    sides_of_.resize(views.faces());
    for (std::size_t i = 0; i < sides_.size(); ++i)
      for (const std::int32_t f : {sides_[i].one, sides_[i].other}) sides_of_[at(f)].push_back(static_cast<int>(i));
  }

  /// Faces that a photo shows are offered to it.
  void expand(std::int32_t photo, const std::vector<std::int32_t>& shown) {
    if (node_.empty()) node_.assign(views_.faces(), -1);
    std::vector<std::int32_t> faces;
    for (const std::int32_t f : shown)
      if (label_[at(f)] != photo) node_[at(f)] = static_cast<int>(faces.size()), faces.push_back(f);
    std::vector<float> keep, take;
    for (const std::int32_t f : faces) {
      keep.push_back(cost_of(at(f), *view(at(f), label_[at(f)])));
      take.push_back(cost_of(at(f), *view(at(f), photo)));
    }
    mosaic::MaxFlow flow(static_cast<int>(faces.size()));
    for (const std::int32_t f : faces)
      for (const int s : sides_of_[at(f)]) {
        const Side& side = sides_[static_cast<std::size_t>(s)];
        const std::int32_t g = side.one == f ? side.other : side.one;
        const int i = node_[at(f)], j = node_[at(g)];
        const std::int32_t own = label_[at(f)], other = label_[at(g)];
        if (j < 0) {
          keep[static_cast<std::size_t>(i)] += seam(side, own, other);
          take[static_cast<std::size_t>(i)] += seam(side, photo, other);
        } else if (f == side.one) {
          // As in mosaic/seams: A both stay, B the other goes, D this one goes.
          const float b = seam(side, own, photo), d = seam(side, photo, other),
                      a = std::min(seam(side, own, other), b + d);
          take[static_cast<std::size_t>(i)] += d - a, take[static_cast<std::size_t>(j)] -= d;
          flow.add_arc(i, j, b + d - a, 0);
        }
      }
    for (std::size_t i = 0; i < faces.size(); ++i) flow.add_ends(static_cast<int>(i), take[i], keep[i]);
    flow.solve();
    for (std::size_t i = 0; i < faces.size(); ++i) {
      if (flow.on_sink_side(static_cast<int>(i))) label_[at(faces[i])] = photo;
      node_[at(faces[i])] = -1;
    }
  }
  std::vector<std::int32_t> labels() && { return std::move(label_); }

 private:
  const FaceViews& views_;
  const ChoiceOptions& options_;
  std::vector<std::int32_t> label_;
  std::vector<float> best_;
  std::vector<Side> sides_;
  std::vector<std::vector<int>> sides_of_;
  std::vector<int> node_;

  static std::size_t at(std::int32_t i) { return static_cast<std::size_t>(i); }
  float cost_of(std::size_t f, const View& v) const {
    // A face of many pixels weighs no more than one of few: both are looked at from as near as one likes.
    return 1 - v.pixels / std::max(1e-9F, best_[f]) + (v.odd ? static_cast<float>(options_.odd) : 0);
  }
  const View* view(std::size_t f, std::int32_t photo) const {
    const auto all = views_[f];
    const auto found =
        std::lower_bound(all.begin(), all.end(), photo, [](const View& v, std::int32_t p) { return v.photo < p; });
    return found != all.end() && found->photo == photo ? &*found : nullptr;
  }
  /// Grey levels by which two photos differ in a face; as much as anything where one does not show it.
  float step(std::int32_t f, std::int32_t a, std::int32_t b) const {
    constexpr float unseen = 40;
    const View *x = view(at(f), a), *y = view(at(f), b);
    if (!x || !y) return unseen;
    float sum = 0;
    for (std::size_t ch = 0; ch < 3; ++ch) sum += static_cast<float>(std::abs(x->colour[ch] - y->colour[ch]));
    return sum / 3;
  }
  float seam(const Side& s, std::int32_t a, std::int32_t b) const {
    if (a == b || a < 0 || b < 0) return 0;
    return s.cost + s.per_level * 0.5F * (step(s.one, a, b) + step(s.other, a, b));
  }
};

}  // namespace

std::vector<std::int32_t> choose_views(const TriangleMesh& mesh, const FaceViews& views, int photos,
                                       const ChoiceOptions& options, Progress& progress) {
  Choice choice(mesh, views, options);
  std::vector<std::vector<std::int32_t>> shown(static_cast<std::size_t>(photos));
  for (std::size_t f = 0; f < views.faces(); ++f)
    for (const View& v : views[f]) shown[static_cast<std::size_t>(v.photo)].push_back(static_cast<std::int32_t>(f));
  progress.start("choosing photos of faces", static_cast<std::size_t>(options.rounds) * shown.size());
  for (int round = 0; round < options.rounds; ++round)
    for (int photo = 0; photo < photos; ++photo) {
      progress.check();
      choice.expand(photo, shown[static_cast<std::size_t>(photo)]);
      progress.advance();
    }
  return std::move(choice).labels();
}

}  // namespace mesograph::mesh
