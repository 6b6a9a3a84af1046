#include <mesograph/base/errors.hpp>
#include <mesograph/stages/admit.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_admit(Call& call) {
  survey::Survey opened(call.survey);
  stages::AdmitOptions options;
  for (const std::string& path : call.paths()) options.paths.emplace_back(path);
  options.sortie = call.text("sortie");
  options.drop = call.list("drop");
  options.keep = call.list("keep");
  options.moved_to = call.text("photos");
  options.listing = call.text("listing");
  options.cameras = call.text("cameras");
  options.fixed = call.has("fixed");
  options.positions = call.text("positions");
  options.positions_crs = geo::tidy_name(call.text("positions-crs"));
  for (const std::string& pair : call.list("columns")) {
    const std::size_t at = pair.find('=');
    if (at == std::string::npos || at == 0 || at + 1 == pair.size())
      throw UsageError("--columns {}: write OURS=ITS, as in --columns image=Photo,east=X", pair);
    options.columns[pair.substr(0, at)] = pair.substr(at + 1);
  }
  const stages::Admitted a = stages::admit(opened, options, call.progress).result;
  call.json = json_of(a);
  call.lines.push_back(fmt::format("{}{} photos: {} new, {} known, {} screened out",
                                   options.sortie.empty() ? "" : options.sortie + ": ", a.photos, a.admitted, a.already,
                                   a.screened_out.size()));
  const auto percent = [](double share) {
    return std::isfinite(share) ? fmt::format("{:.0f} %", 100 * share) : std::string("unknown");
  };
  for (const stages::SortieFlown& f : a.flights)
    if (options.sortie.empty() || f.sortie == options.sortie)
      call.lines.push_back(
          fmt::format("  {}: about {:.0f} m above ground, GSD {:.3f} m, overlap {} forward, {} sideways{}", f.sortie,
                      f.above_ground, f.gsd, percent(f.forward_overlap), percent(f.side_overlap),
                      f.assumed ? "; all assumed, as for 75 % forward overlap: orient tells the true ones" : ""));
  for (const stages::ScreenedPhoto& p : a.screened_out)
    call.lines.push_back(fmt::format("  {:<20} {}", p.image, p.words));
}

}  // namespace

Command admit_command() {
  return {"admit",
          "adds photos or folders of a sortie, screens out what is useless",
          "[PATH...]",
          {{"sortie", "the flight these photos are of", Takes::text},
           {"drop", "name patterns of photos to leave out", Takes::list},
           {"keep", "name patterns of photos to take in all the same", Takes::list},
           {"photos", "folder that the photos were moved to; they are known by their content", Takes::text},
           {"listing", "stations.csv with start values; without PATH: photos without pixels", Takes::text},
           {"cameras", "cameras.json that the listing names", Takes::text},
           {"fixed", "hold the listing's orientations in every adjustment"},
           {"positions", "processed positions (CSV, by image or time) instead of the geotags", Takes::text},
           {"positions-crs", "CRS of these positions, as in EPSG:25833", Takes::text},
           {"columns", "names of columns in the listing or positions: OURS=ITS,...", Takes::list}},
          run_admit};
}

}  // namespace mesograph::app
