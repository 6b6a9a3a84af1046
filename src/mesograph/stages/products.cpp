#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/products.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using survey::Survey;

namespace {

constexpr const char* surface_version = "surface 1";

}  // namespace

std::string surface_fingerprint(const Survey& survey) {
  const auto cloud = survey.store.stage("densify");
  return survey::fingerprint({surface_version, cloud ? cloud->fingerprint : ""});
}

Outcome<SurfaceMade> surface_product(Survey& survey, Progress& progress) {
  const std::string print = surface_fingerprint(survey);
  if (auto stands = standing<SurfaceMade>(survey, "surface", print)) return *stands;
  SurfaceRequest request;
  request.clouds = {survey.results() / "cloud.las"};
  request.out = survey.results() / "surface_top.tif";
  const SurfaceMade made = make_surface_files(request, progress);
  survey.store.finish("surface", print, made, std::vector<fs::path>(made.files.begin(), made.files.end()));
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
