#include <fmt/format.h>

#include <mesograph/report/judgement.hpp>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/advise.hpp>
#include <mesograph/survey/inputs.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::string number(double value, int decimals) {
  return std::isfinite(value) ? fmt::format("{:.{}f}", value, decimals) : "-";
}

std::string accuracy_line(const char* name, const std::optional<report::Accuracy>& a) {
  if (!a) return fmt::format("{:<8} none", name);
  return fmt::format("{:<8} {:>3} points, RMSE east {} north {} height {} m", name, a->count, number(a->rmse_east, 4),
                     number(a->rmse_north, 4), number(a->rmse_height, 4));
}

void run_adjust(Call& call) {
  survey::Survey opened(call.survey);
  stages::AdjustStageOptions options;
  if (call.has("free")) options.free = call.list("free");
  options.fix_camera = call.has("fix-camera");
  options.hold_out = call.list("hold-out");
  options.snoop = call.has("snoop");
  options.without = survey::items_from(call.list("without"));
  options.with = call.list("with");
  options.as = call.text("as");
  if (options.as.find_first_of("/\\") != std::string::npos || options.as == "." || options.as == "..")
    throw UsageError("--as {}: must be a plain name, not a path", options.as);
  if (const auto n = call.whole("advise"); n && (*n < 1 || *n > 50))
    throw UsageError("--advise {}: ask for 1 to 50 places", *n);
  const auto outcome = stages::adjust(opened, options, call.progress);
  const report::AdjustmentSummary& s = outcome.result.summary;
  call.json = json_of(s);
  call.lines.push_back(fmt::format(
      "{}{} photos, {} tie points, {} observations, redundancy {}, sigma0 {}, reprojection {} px, {} % of ties "
      "rejected{}",
      s.converged ? "" : "NOT CONVERGED: ", s.photos, s.tie_points, s.observations, s.redundancy, number(s.sigma0, 3),
      number(s.reprojection_rms_px, 2), number(100 * s.rejected_share, 1),
      standing_words(call, opened, "adjust", outcome.made)));
  call.lines.push_back(accuracy_line("control", s.control));
  if (s.converged) {
    call.lines.push_back(accuracy_line("check", s.check));
    call.lines.push_back(accuracy_line("left out", s.left_out));
  } else {
    call.lines.push_back("check    no result: the adjustment has not come to rest");
  }
  for (const std::string& words : report::judgement_of(s)) call.lines.push_back(words);
  if (!options.as.empty()) call.lines.push_back("kept in results/as/" + options.as);
  if (const auto n = call.whole("advise")) {
    const auto advice = stages::advise(opened, *n, call.progress);
    call.json["advice"] = json_of(advice);
    for (const stages::AdvisedPlace& a : advice)
      call.lines.push_back(fmt::format(
          "advice {}: a target near east {:.1f} north {:.1f}, in {} photos; largest height sigma {:.4f} -> {:.4f} m",
          a.place, a.east, a.north, a.photos, a.before, a.after));
  }
  if (s.sightings.unconfirmed > 0)
    call.lines.push_back(fmt::format("{} of {} sightings unconfirmed", s.sightings.unconfirmed, s.sightings.used));
}

}  // namespace

Command adjust_command() {
  return {"adjust",
          "adjusts the block with its control, writes stations, cameras and residuals",
          "",
          {{"free", "camera parameters to estimate (default c,x0,y0,k1,k2,k3,p1,p2)", Takes::list},
           {"fix-camera", "hold all camera parameters"},
           {"snoop", "sets the worst suspect aside and adjusts again, until nothing stands out"},
           {"without",
            "leaves observations out from now on: K05, K05:height, K05@PHOTO, position@PHOTO, bar:B1, or a CSV file "
            "with a column item",
            Takes::list},
           {"with", "takes observations in again that --without left out", Takes::list},
           {"advise", "proposes so many places where another target would help most", Takes::whole},
           {"as", "keeps the result in results/as/NAME, beside the one that stands", Takes::text},
           {"hold-out", "control points that are checks in this run", Takes::list}},
          run_adjust};
}

}  // namespace mesograph::app
