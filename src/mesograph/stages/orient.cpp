#include <algorithm>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/orient/links.hpp>
#include <mesograph/orient/orient.hpp>
#include <mesograph/report/adjustment_files.hpp>
#include <mesograph/report/doubts.hpp>
#include <mesograph/stages/block_figures.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/crs_doubts.hpp>
#include <mesograph/stages/orient.hpp>
#include <mesograph/stages/tie.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* orient_version = "orient 11";

/// Lengths of the residuals of all rays that take part, pixels.
std::vector<double> residual_lengths(const adjust::Block& block) {
  std::vector<double> out;
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays)
      if (point.X.allFinite() && adjust::takes_part(block, ray))
        if (const auto v = adjust::residual(block, ray, point.X)) out.push_back(v->norm());
  return out;
}

/// How well a point's rays must meet: more than a share of them within a part of the photo's width.
struct Fit {
  double of_rays, of_width;
};
constexpr Fit close{0.999, 0.01};  // errors of a listing's positions of a metre or two stay within it
constexpr Fit loose{0.5, 0.03};    // so do those of a lens without its distortion

/// Share of the tie points between listed photos whose rays meet so well.
double fitting_share(adjust::Block block, const Fit& fit) {
  std::vector<char> fits(block.points.size(), 0), asked(block.points.size(), 0);
  parallel_for(block.points.size(), 64, [&](std::size_t p) {
    adjust::GroundPoint& point = block.points[p];
    int rays = 0;
    for (adjust::Ray& r : point.rays) r.accepted = true, rays += block.stations[r.station].oriented;
    asked[p] = rays >= 2;
    point.X.setConstant(nan);
    if (!asked[p] || !adjust::place(block, point, 0.01)) return;
    const auto meet = std::count_if(point.rays.begin(), point.rays.end(), [&](const adjust::Ray& r) {
      const auto v = adjust::takes_part(block, r) ? adjust::residual(block, r, point.X) : std::nullopt;
      return v && v->norm() < fit.of_width * block.cameras[block.stations[r.station].camera].width;
    });
    fits[p] = static_cast<double>(meet) > fit.of_rays * rays;
  });
  const auto n = std::count(asked.begin(), asked.end(), 1);
  return n ? static_cast<double>(std::count(fits.begin(), fits.end(), 1)) / static_cast<double>(n) : 0.0;
}

/// Angles in another unit are seen by their rays that do not meet, and by that they would in that unit.
void check_listing(const Survey& survey, const PhotoTable& photos, const TieTable& ties, const adjust::Block& block) {
  const double share = fitting_share(block, close);
  constexpr double enough = 0.3;  // two thirds may be wrong matches, or lie beside photos that stand wrong
  if (share > enough) return;
  for (const auto& [unit, name] : {std::pair(deg_per_rad, "radians"), std::pair(0.9, "gon")})
    if (const double other = fitting_share(start_block(survey, photos, ties, unit).block, close);
        other > enough && other > 2 * share)
      throw Error(
          "orient: {:.0f} % of the tie points fit the listing as it is, {:.0f} % when its angles are taken as {}: give "
          "them in degrees",
          100 * share, 100 * other, name);
  if (fitting_share(block, loose) > enough) return;
  throw Error(
      "orient: the listing and the tie points do not fit together: only {:.0f} % of the points meet; check image "
      "names, "
      "angles and the order of columns",
      100 * share);
}

/// A listing gives orientations: they stay, the photos it leaves out are added to them.
orient::OrientResult take_listing(const Survey& survey, const PhotoTable& photos, const TieTable& ties,
                                  NamedBlock& named, const orient::OrientOptions& options, Progress& progress) {
  orient::OrientResult out;
  check_listing(survey, photos, ties, named.block);
  orient::extend_listed(named.block, named.images, options, progress, out);
  double sum = 0;
  const std::vector<double> lengths = residual_lengths(named.block);
  for (const double v : lengths) sum += v * v;
  out.adjustment.reprojection_rms_px = std::sqrt(sum / static_cast<double>(lengths.size()));
  out.adjustment.gsd = adjust::ground_sampling_distance(named.block);
  return out;
}

/// Positions that the block contradicts, and sorties that contradict each other.
void say_positions(const NamedBlock& named, const orient::PositionsJudged& judged, Progress& progress) {
  for (const orient::WrongPosition& w : judged.wrong)
    progress.say(fmt::format("{}: its position is {:.1f} m from where the block puts it; it is not used",
                             named.images[w.station], w.off));
  const std::vector<adjust::Sortie>& sorties = named.block.sorties;
  for (std::size_t b = 1; b < judged.offset.size(); ++b) {
    const Eigen::Vector3d d = judged.offset[b] - judged.offset[0];
    if (!d.allFinite()) continue;
    const double plan = d.head<2>().norm(), height = std::abs(d.z());
    const auto bound = [&](int axis) {
      return 3 * std::hypot(sorties[0].sigma_offset[axis], sorties[b].sigma_offset[axis]);
    };
    if (height > bound(1))
      progress.say(fmt::format(
          "sorties {} and {} contradict each other in height by {:.1f} m; one may be above the geoid or have another "
          "zero: set heights in survey.toml, [sortie.NAME], or trust heights only with control",
          sorties[0].name, sorties[b].name, height));
    if (plan > bound(0))
      progress.say(fmt::format(
          "sorties {} and {} contradict each other in plan by {:.1f} m; one may be in another datum: set positions_crs "
          "in survey.toml, [sortie.NAME]",
          sorties[0].name, sorties[b].name, plan));
  }
}

orient::OrientOptions options_of(const Survey& survey) {
  orient::OrientOptions out;
  out.free = adjust::free_from(survey.settings.adjust.free, "[adjust] free");
  return out;
}

/// How each sortie was really flown: the photos as they are oriented, above the ground that their tie points show.
/// Before that heights and overlaps rest on what the photos say, or on a guess. Empty for a free block, which has no
/// metres.
std::vector<photo::SortieFlight> flown(const NamedBlock& named, const PhotoTable& table) {
  if (named.free) return {};
  const adjust::Block& block = named.block;
  std::vector<std::vector<double>> ground(block.stations.size());
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays)
      if (point.X.allFinite() && adjust::takes_part(block, ray)) ground[ray.station].push_back(point.X.z());
  std::vector<photo::FlightPhoto> photos = flight_photos(table.kept(), table);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    photo::FlightPhoto& p = photos[i];
    const adjust::Station& s = block.stations[i];
    p.sortie = s.sortie;
    p.at.setConstant(nan), p.up = p.above_ground = nan;
    if (!s.oriented || ground[i].empty()) continue;
    p.at = s.C.head<2>(), p.up = s.C.z(), p.above_ground = s.C.z() - median(ground[i]);
    p.c = block.cameras[s.camera].interior[camera::c];
    const Eigen::Vector3d right = s.R.col(0), forward = -s.R.col(2);
    p.gimbal = true;
    p.yaw_deg = std::atan2(-right.y(), right.x()) * deg_per_rad;
    p.pitch_deg = std::asin(std::clamp(forward.z(), -1.0, 1.0)) * deg_per_rad;
    p.roll_deg = -std::asin(std::clamp(right.z(), -1.0, 1.0)) * deg_per_rad;
  }
  return photo::view_flight(photos).sorties;
}

/// Photos of each sortie, how many are oriented, how it was flown, and how its positions are shifted.
std::vector<OrientedSortie> sorties_of(const NamedBlock& named, const PhotoTable& table, const geo::Frame* frame) {
  const std::vector<photo::SortieFlight> flights = flown(named, table);
  std::vector<OrientedSortie> out;
  for (std::size_t k = 0; k < named.block.sorties.size(); ++k) {
    int photos = 0, oriented = 0, positions = 0;
    Eigen::Vector3d middle = Eigen::Vector3d::Zero();
    for (const adjust::Station& s : named.block.stations) {
      if (s.sortie != static_cast<int>(k)) continue;
      ++photos;
      if (!s.oriented) continue;
      ++oriented, middle += s.C;
      positions += s.position.allFinite();
    }
    OrientedSortie entry;
    entry.name = named.block.sorties[k].name, entry.photos = photos, entry.oriented = oriented;
    if (k < flights.size() && oriented > 1)
      entry.above_ground = flights[k].above_ground, entry.forward_overlap = flights[k].forward,
      entry.side_overlap = flights[k].side;
    if (frame && positions > 0)
      entry.shift = frame->local_from_grid(middle / oriented).transpose() * named.block.sorties[k].offset;
    out.push_back(entry);
  }
  return out;
}

std::vector<OrientedPart> parts_of(const NamedBlock& named, const orient::OrientResult& result) {
  std::vector<OrientedPart> out;
  for (const orient::Part& part : result.parts) {
    std::map<std::string, int> sorties;
    for (const int s : part.stations) ++sorties[named.block.sorties[named.block.stations[s].sortie].name];
    out.push_back({fmt::format("block {}", out.size() + 1), part.stations.size(), sorties,
                   named.images[part.stations.front()], part.datum});
  }
  return out;
}

std::vector<OrientedCamera> cameras_of(const NamedBlock& named, const std::vector<camera::Camera>& start) {
  std::vector<OrientedCamera> out;
  for (std::size_t i = 0; i < start.size(); ++i)
    out.push_back({start[i].name, start[i].interior[camera::c], named.block.cameras[i].interior[camera::c]});
  return out;
}

std::vector<WeakLink> weakest_of(const NamedBlock& named) {
  constexpr std::size_t most = 3;
  std::vector<WeakLink> out;
  for (const orient::Link& link : orient::holding_links(named.block)) {
    if (out.size() == most) break;
    out.push_back({named.images[link.a], named.images[link.b], static_cast<std::size_t>(link.points)});
  }
  return out;
}

void say_parts(const NamedBlock& named, const orient::OrientResult& result, Progress& progress) {
  for (const orient::NotOriented& n : result.not_oriented)
    progress.say(fmt::format("{} could not be oriented: {}", named.images[n.station], n.reason));
  if (result.free)
    progress.say(
        "the block is free: nothing gives it scale and place; its unit is a hundredth of the median distance between "
        "photo and ground. Give three control points with sightings, or positions, and orient again");
  for (const orient::Part& part : result.parts)
    if (part.on_line)
      progress.say(
          fmt::format("the positions of {} and {} more photos lie on one line: the tilt across it rests on {}; trust "
                      "heights beside "
                      "the line only with control",
                      named.images[part.stations.front()], part.stations.size() - 1,
                      named.block.stations[part.stations.front()].up == Eigen::Vector3d::UnitZ()
                          ? "photos that look straight down on average"
                          : "the attitudes that the photos state"));
  if (result.parts.size() > 1)
    progress.say(fmt::format(
        "the photos make {} blocks that no tie points hold together; each stands where its own {} put it",
        result.parts.size(), result.parts[0].datum == orient::Datum::control ? "control points" : "positions"));
}

}  // namespace

std::string orient_fingerprint(const Survey& survey) {
  const auto ties = survey.store.stage("tie");
  bool positions = false;
  const PhotoTable photos = survey.store.stage("admit") ? load_photos(survey) : PhotoTable();
  for (const Photo* p : photos.kept()) positions = positions || p->position.allFinite();
  std::vector<std::string> parts = {orient_version,
                                    ties ? ties->fingerprint : "",
                                    packed(survey.settings.sorties),
                                    packed(survey.settings.cameras),
                                    survey.crs.wkt,
                                    packed(survey.settings.adjust.free),
                                    packed(survey.settings.tie.sigma_px),
                                    hash_or_empty(survey.inputs() / "listing.csv"),
                                    hash_or_empty(survey.inputs() / "cameras.json")};
  // Without positions the control gives the datum; with them it has no say here.
  if (!positions) {
    parts.push_back(hash_or_empty(survey.inputs() / "control.csv"));
    parts.push_back(hash_or_empty(survey.inputs() / "sightings.csv"));
  }
  return fingerprint(parts);
}

Outcome<Oriented> orient(Survey& survey, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  TieTable ties = load_ties(survey);
  check_control(survey);
  const std::string print = orient_fingerprint(survey);
  if (auto stands = standing<Oriented>(survey, "orient", print); stands && block_stands(survey, "orient"))
    return *stands;
  if (const std::string doubt = datum_doubt(survey, photos); !doubt.empty()) throw Error("orient: {}", doubt);
  NamedBlock named = start_block(survey, photos, ties);
  const std::vector<camera::Camera> start = named.block.cameras;
  const bool listed = std::any_of(named.block.stations.begin(), named.block.stations.end(),
                                  [](const adjust::Station& s) { return s.oriented; });
  const orient::OrientOptions options = options_of(survey);
  if (!listed) ties = {};  // the block holds them now
  const orient::OrientResult result = listed ? take_listing(survey, photos, ties, named, options, progress)
                                             : orient::orient(named.block, named.images, options, progress);
  named.free = result.free;
  save_block(survey, "orient", named);
  const std::vector<fs::path> drawn = draw_block(survey, photos, named, progress);
  say_parts(named, result, progress);
  say_positions(named, result.positions, progress);
  const std::size_t oriented = named.images.size() - result.not_oriented.size();
  const double least = survey.settings.tolerance.oriented_share;
  if (static_cast<double>(oriented) < least * static_cast<double>(named.images.size()))
    progress.say(
        fmt::format("{} of {} photos oriented is below the tolerance of {}", oriented, named.images.size(), least));
  std::optional<geo::Frame> frame;
  if (!named.free) frame.emplace(survey.crs, named.origin);
  Outcome<Oriented> out;
  Oriented& o = out.result;
  o.photos = named.images.size(), o.oriented = oriented, o.components = result.parts.size();
  for (const orient::NotOriented& n : result.not_oriented)
    o.not_oriented.push_back({named.images[n.station], n.reason});
  o.reprojection_rms_px = result.adjustment.reprojection_rms_px;
  o.median_residual_px = median(residual_lengths(named.block));
  if (!named.free) o.gsd = result.adjustment.gsd;
  o.free = named.free, o.preview = survey.preview;
  o.blocks = parts_of(named, result), o.sorties = sorties_of(named, photos, frame ? &*frame : nullptr);
  o.cameras = cameras_of(named, start), o.weakest = weakest_of(named);
  if (!listed) o.bowl = report::say_doubts(named, result.adjustment, progress);
  survey.store.finish("orient", print, o, drawn);
  return out;
}

Outcome<Oriented> preview(Survey& survey, Progress& progress) {
  const auto small = Survey::preview_of(survey);
  tie(*small, {}, progress);
  Outcome<Oriented> out = orient(*small, progress);
  write_file(small->results() / "stations.csv", report::stations_text(small->crs, load_block(*small, "orient")));
  return out;
}

}  // namespace mesograph::stages
