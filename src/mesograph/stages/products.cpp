#include <mesograph/base/files.hpp>
#include <mesograph/cloud/copc.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/products.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using survey::Survey;

namespace {

constexpr const char *surface_version = "surface 1", *stream_version = "stream 1";

/// Of what is made of the cloud alone.
std::string print_on_cloud(const Survey& survey, const char* version) {
  const auto cloud = survey.store.stage("densify");
  return survey::fingerprint({version, cloud ? cloud->fingerprint : ""});
}

}  // namespace

std::string surface_fingerprint(const Survey& survey) { return print_on_cloud(survey, surface_version); }

Outcome<SurfaceMade> surface_product(Survey& survey, Progress& progress) {
  const std::string print = surface_fingerprint(survey);
  if (auto stands = standing<SurfaceMade>(survey, "surface", print)) return *stands;
  SurfaceRequest request;
  request.clouds = {usual_cloud(survey)};
  request.out = survey.results() / "surface_top.tif";
  const SurfaceMade made = make_surface_files(request, progress);
  survey.store.finish("surface", print, made, std::vector<fs::path>(made.files.begin(), made.files.end()));
  return {made, true};
}

std::string stream_fingerprint(const Survey& survey) { return print_on_cloud(survey, stream_version); }

Outcome<Streamed> stream_product(Survey& survey, Progress& progress) {
  const std::string print = stream_fingerprint(survey);
  if (auto stands = standing<Streamed>(survey, "stream", print)) return *stands;
  const fs::path out = survey.results() / "cloud.copc.laz";
  cloud::LasReader file(usual_cloud(survey));
  cloud::OctreeOptions options;
  options.scratch = survey.results();
  Streamed made;
  made.nodes = cloud::write_octree(file, out, options, progress);
  made.file = fs::relative(out, survey.folder).string(), made.points = file.header().points;
  made.bytes_a_point = static_cast<double>(fs::file_size(out)) / static_cast<double>(made.points);
  survey.store.finish("stream", print, made, {out});
  return {made, true};
}

Outcome<Mosaicked> mosaic_product(Survey& survey, Progress& progress) {
  const MosaicRequest request;
  if (auto stands = standing<Mosaicked>(survey, "mosaic", mosaic_fingerprint(survey, request))) return *stands;
  return {make_mosaic(survey, request, progress), true};
}

Outcome<Meshed> mesh_product(Survey& survey, Progress& progress) {
  const MeshRequest request;
  if (auto stands = standing<Meshed>(survey, "mesh", mesh_fingerprint(survey, request))) return *stands;
  return {make_mesh(survey, request, progress), true};
}

}  // namespace mesograph::stages
