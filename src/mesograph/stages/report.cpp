#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/report/adjustment_page.hpp>
#include <mesograph/report/tables.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/cloud_section.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/mosaic.hpp>
#include <mesograph/stages/report.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* report_version = "report 6";

using Rows = std::vector<std::pair<std::string, std::string>>;

/// Points that became check or control, or left, after an adjustment had shown what they do to it.
std::vector<report::Material::Change> changes_of(const Survey& survey) {
  const std::string before = rmse_before;
  std::vector<report::Material::Change> out;
  for (const Decision& d : read_decisions(survey.inputs()))
    if (const auto rmse = d.why.find(before); rmse != std::string::npos)
      out.push_back({d.image, d.decision, d.time, d.why.substr(rmse + before.size())});
  return out;
}

Rows settings_of(const Survey& survey, const report::Material& material) {
  const Settings& s = survey.settings;
  Rows out = {{"coordinate system", survey.crs.name},
              {"free camera parameters", fmt::format("{}", fmt::join(material.summary.free, ", "))},
              {"sigmas of ties and sightings", word_of(s.adjust.weights)},
              {"sigma of a tie point", fmt::format("{} px", s.tie.sigma_px)},
              {"sigma of a sighting", fmt::format("{} px", s.control.sigma_px)},
              {"sigma of control", fmt::format("{} m in plan, {} m in height", s.control.sigma_h, s.control.sigma_v)},
              {"sightings that nobody has confirmed", s.adjust.found ? "take part" : "take no part"}};
  for (const adjust::Sortie& sortie : material.named.block.sorties)
    out.emplace_back("positions of a sortie",
                     fmt::format("{}: sigma {} and {} m of a photo, {} and {} m of the common offset{}", sortie.name,
                                 sortie.sigma_photo[0], sortie.sigma_photo[1], sortie.sigma_offset[0],
                                 sortie.sigma_offset[1], sortie.drifts ? ", drift" : ""));
  return out;
}

Rows inputs_of(const Survey& survey) {
  std::vector<fs::path> files = {survey.folder / "survey.toml"};
  for (const auto& entry : fs::directory_iterator(survey.inputs()))
    if (entry.is_regular_file()) files.push_back(entry.path());
  std::sort(files.begin() + 1, files.end());
  Rows out;
  for (const fs::path& file : files) out.emplace_back(fs::relative(file, survey.folder).string(), hash_or_empty(file));
  return out;
}

/// The mosaic that was made last, where it was made of the adjustment that stands.
std::optional<Mosaicked> mosaic_of(const Survey& survey) {
  const auto made = survey.store.stage("mosaic");
  if (!made) return std::nullopt;
  std::optional<Mosaicked> out = made->result<Mosaicked>();
  if (out->block != densified_block_print(survey)) out.reset();
  return out;
}

Rows mosaic_rows(const Survey& survey) {
  const std::optional<Mosaicked> m = mosaic_of(survey);
  if (!m) return {};
  const auto percent = [](double share) { return fmt::format("{:.1f} %", 100 * share); };
  Rows out = {{"cells", fmt::format("{} x {} of {:g} m, from {} photos", m->columns, m->rows, m->cell, m->photos)},
              {"empty", percent(m->empty_share)}};
  if (m->filled_share > 0) out.emplace_back("filled, seen by no photo", percent(m->filled_share));
  for (std::size_t i = 0; i < m->angle_shares.size(); ++i)
    out.emplace_back(i < angle_ends.size() ? fmt::format("seen up to {:g} degrees off the vertical", angle_ends[i])
                                           : std::string("seen farther off"),
                     percent(m->angle_shares[i]));
  out.emplace_back("steps along seams before blending", fmt::format("{:.1f} grey levels in the median, {:.0f} at worst",
                                                                    m->seam_step_median, m->seam_step_worst));
  out.emplace_back("sigma of a place, by block and surface", fmt::format("{:.3f} m in the median", m->sigma_median));
  out.emplace_back("targets in the mosaic", m->targets.empty() ? std::string("none was found")
                                                               : fmt::format("{}, {:.3f} m off an axis (RMS)",
                                                                             m->targets.size(), m->targets_rmse));
  return out;
}

Rows times_of(const Survey& survey) {
  Rows out;
  for (const char* stage :
       {"admit", "tie", "orient", "sight", "adjust", "densify", "stream", "surface", "mosaic", "mesh"})
    if (const auto made = survey.store.stage(stage)) out.emplace_back(stage, report::fixed(made->seconds, 1));
  out.emplace_back("mesograph", MESOGRAPH_VERSION);
  return out;
}

}  // namespace

report::Material report_material(const Survey& survey) {
  Adjusted adjusted = last_adjustment(survey);
  NamedBlock named = load_block(survey, "adjust");
  adjust::Uncertainty uncertainty = *adjusted_uncertainty(survey, named.block);
  report::Material out(survey.crs, std::move(named), std::move(uncertainty));
  out.title = survey.settings.name;
  out.summary = std::move(adjusted.summary), out.points = std::move(adjusted.points);
  const PhotoTable photos = load_photos(survey);
  for (const Photo& p : photos.photos)
    out.photos.push_back({p.image, p.sortie, p.takes_part() ? std::string() : photo::reason_of(*p.screened_out)});
  for (const CameraStart& camera : photos.cameras)
    if (camera.guessed) out.guessed.push_back({camera.name, camera.c});
  out.tolerance = survey.settings.tolerance;
  out.changes = changes_of(survey);
  out.settings = settings_of(survey, out), out.inputs = inputs_of(survey), out.times = times_of(survey);
  out.mosaic = mosaic_rows(survey);
  return out;
}

std::string report_fingerprint(const Survey& survey, const std::string& compare) {
  const auto adjusted = survey.store.stage("adjust");
  return fingerprint({report_version, adjusted ? adjusted->fingerprint : "", survey.settings.name,
                      packed(survey.settings.tolerance), packed(mosaic_rows(survey)), cloud_section_print(survey),
                      compare, compare.empty() ? "" : hash_or_empty(kept_file(survey, compare))});
}

namespace {

/// Prints the page, or says why not; a PDF of an earlier adjustment must not pass for this one's.
std::optional<fs::path> printed(const fs::path& html, bool wanted, Progress& progress) {
  const fs::path pdf = fs::path(html).replace_extension(".pdf");
  if (wanted && report::print_pdf(html, pdf, progress)) return pdf;
  fs::remove(pdf);
  if (wanted)
    progress.say(
        "report.pdf is not made, because WeasyPrint is missing or failed; install the package weasyprint, or "
        "print report.html from a browser");
  return std::nullopt;
}

}  // namespace

Outcome<Reported> report(Survey& survey, const ReportStageOptions& options, Progress& progress) {
  const std::string& compare = options.compare;
  const std::string print = report_fingerprint(survey, compare);
  const fs::path file = survey.results() / "report.html";
  const bool wants_pdf = options.pdf || survey.settings.wants(survey::Product::pdf);
  check_control(survey);
  if (auto stands = standing<Reported>(survey, "report", print); stands && (stands->result.pdf || !wants_pdf))
    return *stands;
  progress.start("writing the report", 1);
  report::Material material = report_material(survey);
  if (!compare.empty()) material.compared_with = compare, material.other = kept_adjustment(survey, compare);
  report::Page page = report::adjustment_page(material);
  auto cloud = cloud_section(survey, progress);
  const bool lacks_cloud = !cloud && !cloud_section_print(survey).empty();
  if (lacks_cloud)
    progress.say(
        "the cloud is gone or was changed since it was written, and is left out; mesograph run makes it again");
  if (cloud) page.products.push_back(std::move(*cloud));
  std::vector<fs::path> written = {file};
  std::vector<const std::vector<report::Figure>*> all = {&page.points, &page.maps, &page.residuals, &page.cameras};
  for (const report::Section& product : page.products) all.push_back(&product.pairs);
  for (const auto* figures : all)
    for (const report::Figure& figure : *figures) {
      written.push_back(survey.results() / "figures" / (figure.name + ".png"));
      write_file(written.back(), figure.drawing.png);
    }
  write_file(file, report::page_html(page));
  const auto pdf = printed(file, wants_pdf, progress);
  if (pdf) written.push_back(*pdf);
  progress.advance();
  Outcome<Reported> out;
  out.result.file = fs::relative(file, survey.folder).string();
  if (pdf) out.result.pdf = fs::relative(*pdf, survey.folder).string();
  survey.store.finish("report", lacks_cloud ? "without its cloud" : print, out.result, written);
  return out;
}

}  // namespace mesograph::stages
