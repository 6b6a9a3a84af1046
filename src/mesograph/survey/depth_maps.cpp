#include <Eigen/Geometry>
#include <algorithm>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/orient/similarity.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/depth_maps.hpp>
#include <mesograph/survey/listing.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "depth 2";

using Json = nlohmann::json;

/// Where photos look sideways, at a wall or a board, the frame is turned so that they look down.
Eigen::Matrix3d looking_down(const adjust::Block& block) {
  Eigen::Vector3d back = Eigen::Vector3d::Zero();
  for (const adjust::Station& s : block.stations)
    if (s.oriented) back += s.R.col(2);
  if (back.normalized().z() > 0.5) return Eigen::Matrix3d::Identity();
  return Eigen::Quaterniond::FromTwoVectors(back, Eigen::Vector3d::UnitZ()).toRotationMatrix();
}

std::vector<std::vector<dense::GroundHint>> hints_of(const adjust::Block& block, int level) {
  std::vector<std::vector<dense::GroundHint>> out(block.stations.size());
  std::vector<dense::Pinhole> pinholes;
  for (const adjust::Station& s : block.stations)
    pinholes.push_back(dense::pinhole_of(block.cameras[s.camera], s, level));
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    for (const adjust::Ray& ray : point.rays)
      if (adjust::takes_part(block, ray))
        out[ray.station].push_back({pinholes[ray.station].project(point.X), point.X.z()});
  }
  return out;
}

void save_depth(const fs::path& path, const photo::Raster<float>& height) {
  write_packed(path, {{"width", height.width}, {"height", height.height}, {"z", bytes_of(height.data)}});
}

}  // namespace

NamedBlock block_to_densify(const Survey& survey, const PhotoTable& photos, const DensifyStageOptions& options,
                            Progress& progress) {
  if (const auto adjusted = survey.store.stage("adjust")) {
    const std::string made_from = adjusted->summary.value("inputs", "");
    if (!options.force && !made_from.empty() && made_from != adjust_fingerprint(survey, {}))
      throw Error(
          "densify: what the block was adjusted from has changed since; run mesograph adjust, or take it as it is with "
          "--force");
    return load_block(survey, "adjust");
  }
  if (!load_listing(survey)) return load_block(survey, "adjust");  // says what is missing
  NamedBlock out = oriented_block(survey, photos);
  out.need_ground("densify");
  if (out.block.points.empty())
    throw Error("densify: ties say how far away the ground is, and there are none; run mesograph tie");
  // Wrong matches among the ties say wrong distances: what fits the stations badly is left out.
  for (int round = 0; round < 3; ++round) {
    adjust::groom(out.block, {});
    for (adjust::GroundPoint& point : out.block.points) {
      point.X.setConstant(nan);
      adjust::intersect(out.block, point, rad_per_deg);
    }
  }
  progress.say("the block is not adjusted: stations and cameras are taken as the listing gives them");
  return out;
}

std::string densified_block_print(const Survey& survey) {
  const auto adjusted = survey.store.stage("adjust");
  return adjusted ? adjusted->fingerprint : oriented_fingerprint(survey);
}

DepthJob::DepthJob(const Survey& s, const PhotoTable& photos, const NamedBlock& named, const std::string& only)
    : survey(s), kept(photos.kept()), block(named.block), turn(looking_down(named.block)) {
  orient::Similarity similarity;
  similarity.R = turn;
  orient::transform(block, similarity);
  for (std::size_t i = 0; i < kept.size(); ++i) {
    if (kept[i]->path.empty())
      throw Error("densify: photo '{}' has no pixels (it comes from a listing); admit the photos themselves",
                  kept[i]->image);
    if (!only.empty() && kept[i]->sortie != only) block.stations[i].oriented = false;
  }
  if (std::none_of(block.stations.begin(), block.stations.end(),
                   [](const adjust::Station& station) { return station.oriented; }))
    throw Error("densify: --only {}: no such sortie with oriented photos", only);
  partners = dense::choose_partners(block);
}

void DepthJob::ask(const CloudRequest& what) {
  request = what;
  hints = hints_of(block, what.level);
  std::vector<std::size_t> oriented;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (block.stations[i].oriented) oriented.push_back(i);
  print = fingerprint({version, densified_block_print(survey), std::to_string(what.level),
                       fmt::format("{}", fmt::join(oriented, ","))});
  // A point that two photos see cannot be seen by three: of a pair its two photos must agree.
  std::size_t most = 0;
  for (const std::vector<int>& p : partners) most = std::max(most, p.size() + 1);
  request.min_views = std::min(request.min_views, std::max(2, static_cast<int>(most)));
}

dense::Pinhole DepthJob::pinhole(int station) const {
  const adjust::Station& s = block.stations[station];
  return dense::pinhole_of(block.cameras[s.camera], s, request.level);
}

dense::View DepthJob::view(int station) const {
  const dense::Pinhole p = pinhole(station);
  return {p, dense::undistort(photo::read_grey(kept[station]->path, request.level), block, block.stations[station],
                              ground_below(station), p)};
}

double DepthJob::ground_below(int station) const {
  std::vector<double> heights;
  for (const dense::GroundHint& hint : hints[station]) heights.push_back(hint.z);
  return median(std::move(heights));
}

std::vector<std::set<int>> DepthJob::witnesses() const {
  std::vector<std::set<int>> out(partners.size());
  for (std::size_t s = 0; s < partners.size(); ++s)
    for (const int other : partners[s]) {
      if (partners[other].empty()) continue;
      out[s].insert(other);
      out[other].insert(static_cast<int>(s));
    }
  return out;
}

dense::MappedView load_depth(const DepthJob& job, int station) {
  const Json json = read_packed(job.item(station));
  dense::MappedView out{job.pinhole(station), photo::Raster<float>(json.at("width"), json.at("height"))};
  out.height.data = values_of<float>(json.at("z"));
  return out;
}

void make_depth_maps(const DepthJob& job, Progress& progress) {
  std::vector<int> todo;
  for (std::size_t s = 0; s < job.partners.size(); ++s)
    if (!job.partners[s].empty()) todo.push_back(static_cast<int>(s));
  progress.start("matching depth", todo.size());
  photo::prepare_gdal();
  parallel_for(todo.size(), [&](std::size_t i) {
    progress.check();
    if (!fs::exists(job.item(todo[i]))) {
      std::vector<dense::View> partners;
      for (const int partner : job.partners[todo[i]]) partners.push_back(job.view(partner));
      save_depth(job.item(todo[i]), dense::match_depth(job.view(todo[i]), partners, job.hints[todo[i]]));
    }
    progress.advance();
  });
}

}  // namespace mesograph::survey
