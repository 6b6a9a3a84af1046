#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/stages/block_figures.hpp>

namespace mesograph::stages {

using namespace survey;

namespace {

using Rgb8 = std::array<std::uint8_t, 3>;

/// A free block stands nowhere on Earth, and its unit is no metre.
constexpr const char* free_wkt =
    "LOCAL_CS[\"free block: scale and place unknown\",LOCAL_DATUM[\"none\",0],UNIT[\"unknown\",1],AXIS[\"x\",EAST],"
    "AXIS[\"y\",NORTH]]";

struct Seen {
  std::size_t point;
  Eigen::Vector2d x;
};

/// Each point under the first photo that sees it.
std::vector<std::vector<Seen>> first_seen(const adjust::Block& block) {
  std::vector<std::vector<Seen>> out(block.stations.size());
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    if (!block.points[p].X.allFinite()) continue;
    for (const adjust::Ray& r : block.points[p].rays)
      if (adjust::takes_part(block, r)) {
        out[r.station].push_back({p, r.x});
        break;
      }
  }
  return out;
}

/// Light to dark over the middle nine tenths of the heights.
void colour_by_height(const adjust::Block& block, std::vector<Rgb8>& colours) {
  std::vector<double> heights;
  for (const adjust::GroundPoint& p : block.points)
    if (p.X.allFinite()) heights.push_back(p.X.z());
  if (heights.empty()) return;
  std::sort(heights.begin(), heights.end());
  const double low = heights[heights.size() / 20], high = heights[heights.size() - 1 - heights.size() / 20];
  for (std::size_t p = 0; p < colours.size(); ++p) {
    const draw::Colour c = draw::ramp(std::clamp((block.points[p].X.z() - low) / std::max(high - low, 1e-9), 0.0, 1.0));
    colours[p] = {static_cast<std::uint8_t>(255 * c.r), static_cast<std::uint8_t>(255 * c.g),
                  static_cast<std::uint8_t>(255 * c.b)};
  }
}

std::vector<Rgb8> colours_of(const PhotoTable& photos, const adjust::NamedBlock& named, Progress& progress) {
  std::vector<Rgb8> colours(named.block.points.size(), Rgb8{128, 128, 128});
  colour_by_height(named.block, colours);
  const std::vector<const Photo*> kept = photos.kept();
  const auto seen = first_seen(named.block);
  photo::prepare_gdal();
  progress.start("colouring points", kept.size());
  parallel_for(kept.size(), [&](std::size_t s) {
    progress.check();
    progress.advance();
    if (kept[s]->path.empty() || seen[s].empty()) return;
    constexpr int halvings = 3;  // JPEG gives an eighth of the size for nearly nothing
    photo::Rgb picture;
    try {
      picture = photo::read_rgb(kept[s]->path, halvings, kept[s]->tone);
    } catch (const Error&) {
      return;  // a photo that was moved since: its points keep the colour of their height
    }
    for (const Seen& at : seen[s]) {
      const int col = std::clamp(static_cast<int>(at.x.x()) >> halvings, 0, picture.width - 1);
      const int row = std::clamp(static_cast<int>(at.x.y()) >> halvings, 0, picture.height - 1);
      for (int c = 0; c < 3; ++c) colours[at.point][c] = picture.at(col, row, c);
    }
  });
  return colours;
}

}  // namespace

std::vector<std::filesystem::path> draw_block(const Survey& survey, const PhotoTable& photos,
                                              const adjust::NamedBlock& named, Progress& progress) {
  const std::vector<Rgb8> colours = colours_of(photos, named, progress);
  std::optional<geo::Frame> frame;
  if (!named.free) frame.emplace(survey.crs, named.origin);
  const auto place = [&](const Eigen::Vector3d& X) { return frame ? frame->crs_from_local(X) : X; };
  const auto drawn = [&](const Eigen::Vector3d& at) { return named.free ? at : survey.crs.metric_from(at); };
  draw::BlockPicture picture;
  picture.free = named.free;
  picture.preview = survey.preview;
  for (const adjust::Sortie& s : named.block.sorties) picture.sorties.push_back(s.name);
  for (const adjust::Station& s : named.block.stations)
    if (s.oriented) picture.stations.push_back({drawn(place(s.C)), static_cast<std::size_t>(s.sortie)});
  std::vector<cloud::CloudRecord> points;
  for (std::size_t p = 0; p < colours.size(); ++p) {
    const adjust::GroundPoint& point = named.block.points[p];
    if (!point.X.allFinite()) continue;
    const auto rays = std::count_if(point.rays.begin(), point.rays.end(),
                                    [&](const adjust::Ray& r) { return adjust::takes_part(named.block, r); });
    points.push_back({place(point.X), colours[p], static_cast<std::uint8_t>(std::min<std::ptrdiff_t>(rays, 255))});
    picture.points.push_back({drawn(points.back().X), colours[p]});
  }
  const std::filesystem::path cloud = survey.results() / "sparse.las",
                              drawing = survey.results() / "figures" / "block.png";
  cloud::write_cloud(cloud, points, named.free ? free_wkt : survey.crs.wkt);
  write_file(drawing, draw::block_figure(picture));
  return {cloud, drawing};
}

}  // namespace mesograph::stages
