#include <algorithm>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/admit.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/orient.hpp>
#include <mesograph/stages/products.hpp>
#include <mesograph/stages/report.hpp>
#include <mesograph/stages/sight.hpp>
#include <mesograph/stages/table.hpp>
#include <mesograph/stages/tie.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;

namespace {

template <typename Result>
Ran ran(const Outcome<Result>& outcome) {
  return {json_of(outcome.result), outcome.made};
}

/// Why a stage that was made from another fingerprint is out of date.
std::string differs(const Survey& survey, const char* name, const std::string& wanted, const char* cause) {
  const auto stage = survey.store.stage(name);
  return stage && stage->fingerprint != wanted ? cause : "";
}

/// Photos of a listing alone are neither matched nor densified: there is nothing to match.
bool has_pixels(const Survey& survey) {
  if (!has_photos(survey)) return true;  // nobody knows yet
  const PhotoTable photos = load_photos(survey);
  return std::any_of(photos.photos.begin(), photos.photos.end(),
                     [](const Photo& p) { return p.takes_part() && !p.path.empty(); });
}
bool has_ties(const Survey& survey) { return survey.store.stage("tie") || has_pixels(survey); }
bool has_control(const Survey& survey) { return std::filesystem::exists(survey.inputs() / "control.csv"); }
bool always(const Survey&) { return true; }

/// A product that is made of others wants those as well.
bool has_mosaic(const Survey& s) { return s.settings.wants(Product::mosaic) && has_pixels(s); }
bool has_surface(const Survey& s) { return has_mosaic(s) || (s.settings.wants(Product::surface) && has_pixels(s)); }
bool has_mesh(const Survey& s) { return s.settings.wants(Product::mesh) && has_pixels(s); }
bool has_stream(const Survey& s) { return s.settings.wants(Product::copc) && has_pixels(s); }
bool has_cloud(const Survey& s) {
  return has_surface(s) || has_stream(s) || (s.settings.wants(Product::cloud) && has_pixels(s));
}

/// Photos that have not changed are only looked at; `made` then says whether the table did.
Ran run_admit(Survey& survey, Progress& progress) {
  const bool made = admit(survey, {}, progress).made;
  return {json_of(survey.store.stage("admit")->result<Admitted>()), made};
}

}  // namespace

const std::vector<Stage>& all_stages() {
  static const std::vector<Stage> stages = {
      {"admit", {}, true, always, photos_changed, run_admit},
      {"tie",
       {"admit"},
       true,
       has_ties,
       [](const Survey& s) { return differs(s, "tie", tie_fingerprint(s), "photos, [tie] or options differ"); },
       [](Survey& s, Progress& p) { return ran(tie(s, {}, p)); }},
      {"orient",
       {"tie"},
       true,
       has_ties,
       [](const Survey& s) {
         return differs(s, "orient", orient_fingerprint(s), "[sortie], [camera] or the datum's points differ");
       },
       [](Survey& s, Progress& p) { return ran(orient(s, p)); }},
      {"control",
       {"admit"},
       false,
       has_control,
       [](const Survey&) { return std::string(); },
       [](Survey& s, Progress& p) { return ran(control(s, {}, p)); }},
      {"sight",
       {"orient"},
       true,
       has_control,
       [](const Survey& s) {
         return differs(s, "sight", sight_fingerprint(s), "control, sightings or [control] differ");
       },
       [](Survey& s, Progress& p) { return ran(sight(s, {}, p)); }},
      // Adjusting does not need the finder to have run; it takes what is there.
      {"adjust",
       {"orient"},
       true,
       always,
       [](const Survey& s) {
         return differs(s, "adjust", adjust_fingerprint(s), "control, sightings, settings or options differ");
       },
       [](Survey& s, Progress& p) {
         const Outcome<Adjusted> outcome = adjust(s, {}, p);
         return Ran{json_of(outcome.result.summary), outcome.made};
       }},
      {"densify",
       {"adjust"},
       true,
       has_cloud,
       [](const Survey& s) { return differs(s, "densify", densify_fingerprint(s), "[densify] or options differ"); },
       [](Survey& s, Progress& p) { return ran(densify(s, {}, p)); }},
      {"stream",
       {"densify"},
       true,
       has_stream,
       [](const Survey& s) { return differs(s, "stream", stream_fingerprint(s), "it was made of another cloud"); },
       [](Survey& s, Progress& p) { return ran(stream_product(s, p)); }},
      {"surface",
       {"densify"},
       true,
       has_surface,
       [](const Survey& s) { return differs(s, "surface", surface_fingerprint(s), "it was made of another cloud"); },
       [](Survey& s, Progress& p) { return ran(surface_product(s, p)); }},
      {"mosaic",
       {"surface"},
       true,
       has_mosaic,
       [](const Survey& s) {
         return differs(s, "mosaic", mosaic_fingerprint(s), "photos' polygons, the surface or options differ");
       },
       [](Survey& s, Progress& p) { return ran(mosaic_product(s, p)); }},
      {"mesh",
       {"adjust"},
       true,
       has_mesh,
       [](const Survey& s) {
         return differs(s, "mesh", mesh_fingerprint(s), "photos, orientations or options differ");
       },
       [](Survey& s, Progress& p) { return ran(mesh_product(s, p)); }},
      {"report",
       {"adjust"},
       true,
       [](const Survey& s) { return s.settings.wants(Product::report) || s.settings.wants(Product::pdf); },
       [](const Survey& s) {
         return differs(s, "report", report_fingerprint(s),
                        "the adjustment, the cloud, the mosaic or [tolerance] differs");
       },
       [](Survey& s, Progress& p) { return ran(report(s, {}, p)); }},
  };
  return stages;
}

const Stage& stage_named(const std::string& name) {
  return *std::find_if(all_stages().begin(), all_stages().end(), [&](const Stage& s) { return s.name == name; });
}

std::vector<std::string> all_needs(const Survey& survey, const Stage& stage) {
  std::set<std::string> needed;
  std::vector<const Stage*> open = {&stage};
  while (!open.empty()) {
    const Stage& one = *open.back();
    open.pop_back();
    for (const std::string& name : one.needs) {
      const Stage& need = stage_named(name);
      if (need.recorded && need.has(survey)) needed.insert(name);
      open.push_back(&need);
    }
  }
  std::vector<std::string> out;
  for (const Stage& s : all_stages())
    if (needed.count(s.name)) out.push_back(s.name);
  return out;
}

}  // namespace mesograph::stages
