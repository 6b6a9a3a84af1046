#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/stages/tie_figures.hpp>
#include <mesograph/stages/tie_items.hpp>

namespace mesograph::stages {

using namespace survey;

namespace {

/// Share of each photo's frame, in cells of an eighth of its sides, that holds a tie point.
std::vector<double> covered(const std::vector<const Photo*>& photos, const TieTable& ties) {
  constexpr int side = 8;
  std::vector<std::vector<char>> cells(photos.size(), std::vector<char>(side * side, 0));
  for (const TieTable::Point& p : ties.points)
    for (const TieTable::Ray& r : p.rays) {
      const int c = std::clamp(static_cast<int>(r.x.x() * side / photos[r.photo]->width), 0, side - 1);
      const int row = std::clamp(static_cast<int>(r.x.y() * side / photos[r.photo]->height), 0, side - 1);
      cells[r.photo][row * side + c] = 1;
    }
  std::vector<double> out;
  for (const auto& c : cells) out.push_back(static_cast<double>(std::count(c.begin(), c.end(), 1)) / (side * side));
  return out;
}

}  // namespace

std::vector<std::filesystem::path> draw_ties(const Survey& survey, const PhotoTable& table, const TieTable& ties) {
  const std::vector<const Photo*> photos = table.kept();
  draw::PairGraph graph;
  const auto flown = flight_photos(photos, table);
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300);
  bool placed = true;
  for (const auto& f : flown) placed = placed && f.at.allFinite(), low = low.cwiseMin(f.at);
  std::map<std::string, std::size_t> sorties;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const std::size_t sortie = sorties.emplace(photos[i]->sortie, sorties.size()).first->second;
    if (sortie == graph.sorties.size()) graph.sorties.push_back(photos[i]->sortie);
    // Without positions the photos stand in a circle, in their order.
    const double angle = 2 * pi * static_cast<double>(i) / static_cast<double>(photos.size());
    graph.stations.push_back(
        {placed ? Eigen::Vector2d(flown[i].at - low) : 50 * Eigen::Vector2d(std::sin(angle), std::cos(angle)), sortie});
    graph.images.push_back(photos[i]->image);
  }
  graph.covered = covered(photos, ties);
  std::map<std::pair<int, int>, std::size_t> common;
  std::vector<std::size_t> rays;
  for (const TieTable::Point& p : ties.points) {
    rays.resize(std::max(rays.size(), p.rays.size() + 1), 0);
    ++rays[p.rays.size()];
    for (std::size_t i = 0; i < p.rays.size(); ++i)
      for (std::size_t j = i + 1; j < p.rays.size(); ++j)
        ++common[{std::min(p.rays[i].photo, p.rays[j].photo), std::max(p.rays[i].photo, p.rays[j].photo)}];
  }
  for (const auto& [pair, n] : common)
    graph.links.push_back({static_cast<std::size_t>(pair.first), static_cast<std::size_t>(pair.second), n});
  const std::filesystem::path folder = survey.results() / "figures";
  write_file(folder / "pairs.png", draw::pair_graph(graph).png);
  write_file(folder / "rays.png", draw::multiplicity_figure(rays).png);
  return {folder / "pairs.png", folder / "rays.png"};
}

std::string matches_figure(const Survey& survey, const std::string& image_a, const std::string& image_b) {
  const PhotoTable table = load_photos(survey);
  const std::vector<const Photo*> photos = table.kept();
  const auto find = [&](const std::string& image) {
    const auto found = std::find_if(photos.begin(), photos.end(), [&](const Photo* p) { return p->image == image; });
    if (found == photos.end()) throw Error("export: no photo '{}' takes part; see mesograph status", image);
    if ((*found)->path.empty()) throw Error("export: photo '{}' has no pixels to draw", image);
    return found - photos.begin();
  };
  auto a = find(image_a), b = find(image_b);
  if (a > b) std::swap(a, b);
  const auto small = [&](std::ptrdiff_t i, photo::Rgb& out, double& scale) {
    int level = 0;
    while ((photos[i]->width >> level) > 900) ++level;
    out = photo::read_rgb(photos[i]->path, level, photos[i]->tone);
    scale = 1.0 / (1 << level);
  };
  draw::MatchPicture picture;
  picture.image_a = photos[a]->image, picture.image_b = photos[b]->image;
  small(a, picture.a, picture.scale_a);
  small(b, picture.b, picture.scale_b);
  const keypoint::Keypoints ka = load_keypoints(survey, *photos[a]), kb = load_keypoints(survey, *photos[b]);
  for (const match::PairMatches& pair : load_matches(survey))
    if (pair.a == a && pair.b == b)
      for (const match::Match& m : pair.matches)
        picture.matches.push_back({{ka.points[m.a].x, ka.points[m.a].y}, {kb.points[m.b].x, kb.points[m.b].y}});
  return draw::match_figure(picture);
}

}  // namespace mesograph::stages
