#include <mesograph/base/errors.hpp>
#include <mesograph/survey/survey.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_new(Call& call) {
  const std::string folder = call.only_path("folder");
  if (!call.has("crs")) throw UsageError("new needs --crs, as in --crs EPSG:25833+5773 or --crs local");
  const geo::CrsRequest crs{call.text("crs"), call.text("heights"), call.text("geoid")};
  survey::create(folder, call.text("name"), crs);
  const geo::Crs found = geo::resolve(crs);
  call.json = {{"folder", folder}, {"crs", found.name}};
  call.lines.push_back(fmt::format("{}: a new survey in {}", folder, found.name));
  if (!found.reading().empty())
    call.lines.push_back(fmt::format("coordinates in files: {}; sigmas, errors and distances are in metres everywhere",
                                     found.reading()));
  call.lines.push_back(fmt::format("next: mesograph admit PHOTOS --sortie NAME -s {}", folder));
}

}  // namespace

Command new_command() {
  return {"new",
          "starts a survey",
          "DIR",
          {{"crs", "EPSG:n, EPSG:n+m, a .prj or WKT file, or local", Takes::text},
           {"heights", "ellipsoidal or plain, where the CRS has no vertical part", Takes::text},
           {"geoid", "geoid grid file to use", Takes::text},
           {"name", "of the survey (default: the folder's)", Takes::text}},
          run_new};
}

}  // namespace mesograph::app
