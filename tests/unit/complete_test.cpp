#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/sight/complete.hpp>
#include <mesograph/sight/find_narrow.hpp>
#include <set>

#include "folder.hpp"
#include "made_up_block.hpp"

using namespace mesograph;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr double half_length = 0.45, half_width = 0.08;  // of a cross's strips, m: some 15 and 3 pixels

using Colour = std::array<std::uint8_t, 3>;
constexpr Colour grey_ground = {110, 110, 110}, white = {220, 220, 220}, dark = {20, 20, 20};

/// A photo of level ground with upright crosses of that colour: places of the ground around each, five a pixel each
/// way, are projected by the simulator, and each pixel is the mean of those that fall into it.
photo::Rgb picture_of(const MadeUpBlock& made, std::size_t station, const std::vector<Vector3d>& crosses,
                      Colour paint) {
  constexpr double step = 0.012, reach = 1.4;  // m; a pixel covers 0.06
  photo::Raster<double> painted(1200, 900), count(1200, 900);
  for (const Vector3d& X : crosses)
    for (double x = -reach; x < reach; x += step)
      for (double y = -reach; y < reach; y += step) {
        const auto at = simulate::true_projection(made.camera, made.stations[station], X + Vector3d(x, y, 0));
        if (!at || at->x() < 0 || at->y() < 0 || at->x() >= 1200 || at->y() >= 900) continue;
        const bool on = (std::abs(x) < half_length && std::abs(y) < half_width) ||
                        (std::abs(y) < half_length && std::abs(x) < half_width);
        const int col = static_cast<int>(at->x()), row = static_cast<int>(at->y());
        painted.at(col, row) += on ? 1 : 0, count.at(col, row) += 1;
      }
  photo::Rgb out(1200, 900, 3, 110);
  for (int row = 0; row < 900; ++row)
    for (int col = 0; col < 1200; ++col)
      if (count.at(col, row) > 0)
        for (int c = 0; c < 3; ++c)
          out.at(col, row, c) = static_cast<std::uint8_t>(std::lround(
              110 + (paint[static_cast<std::size_t>(c)] - 110.0) * painted.at(col, row) / count.at(col, row)));
  return out;
}

}  // namespace

TEST_CASE("A point that some photos show is found in the others as it must lie there, and in no other way",
          "[complete]") {
  MadeUpOptions options;
  options.flat = true, options.points = 300;
  const MadeUpBlock made = make_block(options);
  const adjust::SurveyedPoint& point = made.block.surveyed[0];
  std::vector<std::size_t> shown;  // well inside the frame
  for (const adjust::Ray& r : point.point.rays)
    if (r.x.x() > 40 && r.x.y() > 40 && r.x.x() < 1160 && r.x.y() < 860)
      shown.push_back(static_cast<std::size_t>(r.station));
  REQUIRE(shown.size() >= 6);
  const std::size_t empty = shown[3], reversed = shown[4];

  const Folder folder;
  sight::SearchSite site;
  site.images.resize(made.block.stations.size());
  site.spoken.resize(made.block.surveyed.size());
  for (const std::size_t s : shown) {
    site.images[s].path = folder.path / (made.names[s] + ".png");
    photo::write_png(site.images[s].path, picture_of(made, s, {point.point.X},
                                                     s == empty      ? grey_ground
                                                     : s == reversed ? dark
                                                                     : white));
  }
  const sight::Outlook outlook(made.block, site.scope);
  sight::KnownPoint known{0, {}};
  for (const std::size_t s : {shown[0], shown[1], shown[2]}) {
    const auto x = simulate::true_projection(made.camera, made.stations[s], point.point.X);
    REQUIRE(x);
    sight::TargetOptions finding =
        sight::options_at(made.block, outlook.predictor, {sight::TargetKind::cross}, {}, static_cast<int>(s), *x);
    const Vector2d reach(6, 6);
    const auto found = sight::find_targets(photo::read_grey(site.images[s].path), {*x - reach, *x + reach}, finding);
    REQUIRE(found.size() == 1);
    known.sights.push_back({static_cast<int>(s), found[0], 68.0, 0.9});
  }

  Progress silent;
  const auto all = sight::completed(made.block, site, outlook, {known}, silent);
  REQUIRE(all.size() == 1);
  CHECK(all[0].size() == shown.size() - 2);
  for (const sight::Seen& s : all[0]) {
    CHECK(static_cast<std::size_t>(s.station) != empty);
    CHECK(static_cast<std::size_t>(s.station) != reversed);
    const auto x =
        simulate::true_projection(made.camera, made.stations[static_cast<std::size_t>(s.station)], point.point.X);
    // Grey levels are rounded, and a pixel holds 25 places of the ground.
    CHECK((s.target.x - *x).norm() < 0.08);
  }
  // Where people have spoken nothing is looked for.
  for (const std::size_t s : shown) site.spoken[0].insert(static_cast<int>(s));
  CHECK(sight::completed(made.block, site, outlook, {known}, silent)[0].size() == 3);
}

TEST_CASE("Paint that is as light as its ground is found by its colour", "[complete]") {
  MadeUpOptions options;
  options.flat = true, options.points = 300;
  const MadeUpBlock made = make_block(options);
  REQUIRE(made.block.surveyed.size() >= 4);
  std::vector<Vector3d> crosses;
  for (std::size_t i = 0; i < 4; ++i) crosses.push_back(made.block.surveyed[i].point.X);
  const Folder folder;
  sight::SearchSite site;
  site.kinds = {sight::TargetKind::cross};
  site.images.resize(made.block.stations.size());
  site.spoken.resize(made.block.surveyed.size());
  std::set<std::pair<std::string, std::string>> shown;  // photo, point: well inside the frame
  for (std::size_t i = 0; i < crosses.size(); ++i)
    for (const adjust::Ray& r : made.block.surveyed[i].point.rays)
      if (r.x.x() > 40 && r.x.y() > 40 && r.x.x() < 1160 && r.x.y() < 860)
        shown.emplace(made.names[static_cast<std::size_t>(r.station)], made.block.surveyed[i].id);
  const Colour orange = {202, 81, 20};  // 0.299 R + 0.587 G + 0.114 B = 110
  for (std::size_t s = 0; s < site.images.size(); ++s) {
    site.images[s].path = folder.path / (made.names[s] + ".png");
    photo::write_png(site.images[s].path, picture_of(made, s, crosses, orange));
  }
  adjust::Block block = made.block;
  block.surveyed.resize(crosses.size());  // nothing lies where the others are
  const sight::Outlook outlook(block, site.scope);
  Progress silent;
  const auto found = sight::find_narrow(block, made.names, site, outlook, {}, silent);
  for (const sight::Sighting& s : found.found) {
    shown.erase({s.image, s.point});
    CHECK(s.origin.find(" in red-") != std::string::npos);
    const auto station = std::find(made.names.begin(), made.names.end(), s.image) - made.names.begin();
    const auto point = std::find_if(block.surveyed.begin(), block.surveyed.end(),
                                    [&](const adjust::SurveyedPoint& p) { return p.id == s.point; });
    const auto x =
        simulate::true_projection(made.camera, made.stations[static_cast<std::size_t>(station)], point->point.X);
    CHECK((Vector2d(s.x, s.y) - *x).norm() < 0.08);  // as above
  }
  CHECK(shown.empty());
}
