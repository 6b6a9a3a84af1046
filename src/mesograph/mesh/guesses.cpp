#include <algorithm>
#include <map>
#include <mesograph/mesh/guesses.hpp>
#include <mesograph/mesh/joined.hpp>
#include <mesograph/mesh/topology.hpp>

namespace mesograph::mesh {

namespace {

TriangleMesh with_faces(const TriangleMesh& mesh, std::vector<Face> faces) {
  TriangleMesh out{mesh.X, mesh.sigma, std::move(faces)};
  split_bow_ties(out);
  return compacted(out);
}

}  // namespace

TriangleMesh without_fringe(const TriangleMesh& mesh, int rounds) {
  // Guesses beside each guess; those on a rim go first, then those beside them, and so on.
  std::vector<std::pair<std::int32_t, std::int32_t>> beside;
  std::vector<std::int32_t> going, next;
  std::vector<bool> goes(mesh.faces.size(), false);
  const auto guessed = [&](std::int32_t f) { return mesh.guessed(mesh.faces[static_cast<std::size_t>(f)]); };
  const auto take = [&](std::int32_t f, std::vector<std::int32_t>& list) {
    if (!goes[static_cast<std::size_t>(f)]) goes[static_cast<std::size_t>(f)] = true, list.push_back(f);
  };
  for_each_edge(edge_uses(mesh.faces), [&](std::span<const EdgeUse> edge) {
    const std::int32_t one = edge[0].face, other = edge.back().face;
    if (!guessed(one) || !guessed(other)) return;
    if (edge.size() == 1)
      take(one, going);
    else
      beside.emplace_back(one, other), beside.emplace_back(other, one);
  });
  std::sort(beside.begin(), beside.end());
  for (int round = 1; round < rounds && !going.empty(); ++round, going.swap(next)) {
    next.clear();
    for (const std::int32_t f : going)
      for (auto at = std::lower_bound(beside.begin(), beside.end(), std::pair(f, -1));
           at != beside.end() && at->first == f; ++at)
        take(at->second, next);
  }
  std::vector<Face> left;
  for (std::size_t f = 0; f < goes.size(); ++f)
    if (!goes[f]) left.push_back(mesh.faces[f]);
  return with_faces(mesh, std::move(left));
}

void smooth_guesses(TriangleMesh& mesh, int rounds) {
  std::vector<std::pair<std::int32_t, std::int32_t>> beside;  // a guess, and a neighbour
  std::vector<bool> fixed(mesh.X.size(), false);
  for_each_edge(edge_uses(mesh.faces), [&](std::span<const EdgeUse> edge) {
    const EdgeUse& e = edge[0];
    if (edge.size() == 1) fixed[static_cast<std::size_t>(e.a)] = fixed[static_cast<std::size_t>(e.b)] = true;
    if (std::isnan(mesh.sigma[static_cast<std::size_t>(e.a)])) beside.emplace_back(e.a, e.b);
    if (std::isnan(mesh.sigma[static_cast<std::size_t>(e.b)])) beside.emplace_back(e.b, e.a);
  });
  std::vector<Eigen::Vector3d> sum(mesh.X.size());
  std::vector<int> n(mesh.X.size());
  for (int round = 0; round < rounds; ++round) {
    for (const auto& [v, w] : beside) sum[static_cast<std::size_t>(v)].setZero(), n[static_cast<std::size_t>(v)] = 0;
    for (const auto& [v, w] : beside) sum[static_cast<std::size_t>(v)] += mesh.at(w), ++n[static_cast<std::size_t>(v)];
    for (const auto& [v, w] : beside)
      if (const auto i = static_cast<std::size_t>(v); !fixed[i]) mesh.X[i] = sum[i] / n[i];
  }
}

void settle_small_guesses(TriangleMesh& mesh, double window) {
  const auto guess = [&](std::int32_t v) { return std::isnan(mesh.sigma[static_cast<std::size_t>(v)]); };
  const std::vector<EdgeUse> uses = edge_uses(mesh.faces);
  Joined patches(mesh.X.size());
  for (const EdgeUse& e : uses)
    if (guess(e.a) && guess(e.b)) patches.join(e.a, e.b);
  struct Patch {
    Eigen::AlignedBox3d box;
    float sigma = 0;
    bool rim = false;
  };
  std::map<std::int32_t, Patch> found;
  for (std::int32_t v = 0; v < static_cast<std::int32_t>(mesh.X.size()); ++v)
    if (guess(v)) found[patches.find(v)].box.extend(mesh.at(v));
  for_each_edge(uses, [&](std::span<const EdgeUse> edge) {
    for (const auto& [v, w] : {std::pair(edge[0].a, edge[0].b), std::pair(edge[0].b, edge[0].a)}) {
      if (!guess(v)) continue;
      Patch& patch = found[patches.find(v)];
      patch.rim |= edge.size() == 1;
      if (!guess(w)) patch.sigma = std::max(patch.sigma, 2 * mesh.sigma[static_cast<std::size_t>(w)]);
    }
  });
  for (std::int32_t v = 0; v < static_cast<std::int32_t>(mesh.X.size()); ++v) {
    if (!guess(v)) continue;
    const Patch& patch = found[patches.find(v)];
    if (!patch.rim && patch.sigma > 0 && patch.box.diagonal().norm() <= window)
      mesh.sigma[static_cast<std::size_t>(v)] = patch.sigma;
  }
}

TriangleMesh measured_only(const TriangleMesh& mesh) {
  std::vector<Face> faces;
  for (const Face& f : mesh.faces)
    if (!mesh.guessed(f)) faces.push_back(f);
  return with_faces(mesh, std::move(faces));
}

}  // namespace mesograph::mesh
