#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/orient/orient.hpp>
#include <mesograph/survey/admit.hpp>
#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "orient 3";

std::string settings_of_sorties(const Survey& survey) {
  std::string out;
  for (const auto& [name, s] : survey.settings.sorties)
    out += fmt::format("{} {} {} {} {} {};", name, s.sigma_photo[0], s.sigma_photo[1], s.sigma_sortie[0],
                       s.sigma_sortie[1], s.heights);
  return out;
}

/// A listing gives all orientations: points are intersected, nothing is moved before the adjustment.
orient::OrientResult take_listing(adjust::Block& block) {
  orient::OrientResult out;
  parallel_for(block.points.size(), 64, [&](std::size_t p) { adjust::intersect(block, block.points[p], 0.01); });
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (!block.stations[s].oriented) out.not_oriented.push_back({static_cast<int>(s), "not in the listing"});
  out.components = 1;
  double sum = 0;
  std::size_t n = 0;
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays)
      if (point.X.allFinite() && block.stations[ray.station].oriented)
        if (const auto v = adjust::residual(block, ray, point.X)) sum += v->squaredNorm(), ++n;
  if (n == 0)
    throw Error(
        "orient: the listing and the tie points do not fit together: no point can be intersected; check image "
        "names, angles and the order of columns");
  out.adjustment.reprojection_rms_px = std::sqrt(sum / static_cast<double>(n));
  out.adjustment.gsd = adjust::ground_sampling_distance(block);
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

}  // namespace

std::string orient_fingerprint(const Survey& survey) {
  const auto ties = survey.store.stage("tie");
  bool positions = false;
  const PhotoTable photos = survey.store.stage("admit") ? load_photos(survey) : PhotoTable();
  for (const Photo* p : photos.kept()) positions = positions || p->position.allFinite();
  std::vector<std::string> parts = {version,
                                    ties ? ties->fingerprint : "",
                                    settings_of_sorties(survey),
                                    survey.crs.wkt,
                                    std::to_string(survey.settings.tie_sigma_px),
                                    hash_or_empty(survey.inputs() / "listing.csv"),
                                    hash_or_empty(survey.inputs() / "cameras.json")};
  // Without positions the control gives the datum; with them it has no say here.
  if (!positions) {
    parts.push_back(hash_or_empty(survey.inputs() / "control.csv"));
    parts.push_back(hash_or_empty(survey.inputs() / "sightings.csv"));
  }
  return fingerprint(parts);
}

Outcome orient(Survey& survey, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const TieTable ties = load_ties(survey);
  const std::string print = orient_fingerprint(survey);
  if (const auto stage = survey.store.stage("orient"); stage && stage->fingerprint == print)
    return {stage->summary, false};
  if (const std::string doubt = datum_doubt(survey, photos); !doubt.empty()) throw Error("orient: {}", doubt);
  NamedBlock named = start_block(survey, photos, ties);
  const bool listed = std::any_of(named.block.stations.begin(), named.block.stations.end(),
                                  [](const adjust::Station& s) { return s.oriented; });
  const orient::OrientResult result =
      listed ? take_listing(named.block) : orient::orient(named.block, named.images, {}, progress);
  save_block(survey, "orient", named);
  nlohmann::ordered_json out_list = nlohmann::ordered_json::array();
  for (const orient::NotOriented& n : result.not_oriented) {
    out_list.push_back({{"image", named.images[n.station]}, {"reason", n.reason}});
    progress.say(fmt::format("{} could not be oriented: {}", named.images[n.station], n.reason));
  }
  say_positions(named, result.positions, progress);
  const auto oriented = static_cast<double>(named.images.size() - result.not_oriented.size());
  const auto least = survey.settings.tolerance.find("oriented_share");
  if (least != survey.settings.tolerance.end() && oriented < least->second * static_cast<double>(named.images.size()))
    progress.say(fmt::format("{} of {} photos oriented is below the tolerance of {}", oriented, named.images.size(),
                             least->second));
  Outcome out;
  out.summary = {{"photos", named.images.size()},
                 {"oriented", named.images.size() - result.not_oriented.size()},
                 {"components", result.components},
                 {"not_oriented", out_list},
                 {"reprojection_rms_px", result.adjustment.reprojection_rms_px},
                 {"gsd", result.adjustment.gsd}};
  survey.store.finish("orient", {print, out.summary});
  return out;
}

}  // namespace mesograph::survey
