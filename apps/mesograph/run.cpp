#include <sys/resource.h>
#include <unistd.h>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/process.hpp>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/admit.hpp>
#include <mesograph/stages/run.hpp>
#include <mesograph/survey/inputs.hpp>

#include <climits>

#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// Times and memory of a run, beside the results and not among what must be the same bytes.
void write_run_json(const survey::Survey& survey, double seconds) {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  char host[HOST_NAME_MAX + 1] = {};
  gethostname(host, sizeof(host) - 1);
  const nlohmann::ordered_json json{{"seconds", seconds},
                                    {"cpu_seconds", static_cast<double>(usage.ru_utime.tv_sec + usage.ru_stime.tv_sec)},
                                    {"peak_memory_mb", peak_memory_mb()},
                                    {"host", host}};
  write_file(survey.results() / "run.json", json.dump(2) + "\n");
}

void add_stage(Call& call, const std::string& name, const stages::Ran& ran) {
  const char* did = ran.made ? "made" : "current";
  call.json[name] = ran.told;
  call.json[name]["did"] = did;
  call.lines.push_back(fmt::format("  {:<8} {}", name, did));
}

/// Photos that have not changed are only looked at.
void run_preview(Call& call, survey::Survey& opened) {
  add_stage(call, "admit", stages::stage_named("admit").run(opened, call.progress));
  const auto outcome = stages::preview(opened, call.progress);
  add_stage(call, "preview", {json_of(outcome.result), outcome.made});
  call.lines.push_back(fmt::format("PREVIEW, not for use: {} of {} photos oriented; look at {}",
                                   outcome.result.oriented, outcome.result.photos,
                                   (opened.results() / "preview" / "figures" / "block.png").string()));
}

void run_all(Call& call, survey::Survey& opened) {
  for (const auto& [name, ran] : stages::run(opened, call.progress)) add_stage(call, name, ran);
  const report::AdjustmentSummary adjusted = stages::last_adjustment(opened).summary;
  if (const auto& check = adjusted.check)
    call.lines.push_back(fmt::format("checks: {} points, RMSE east {:.3f} north {:.3f} height {:.3f} m, GSD {:.3f} m",
                                     check->count, check->rmse_east, check->rmse_north, check->rmse_height,
                                     adjusted.gsd));
  if (const auto& s = adjusted.sightings; s.unconfirmed > 0)
    call.lines.push_back(fmt::format("{} of {} sightings unconfirmed", s.unconfirmed, s.used));
  call.lines.push_back(fmt::format("results: {}", opened.results().string()));
}

void run_stages(Call& call, survey::Survey& opened) {
  const auto begin = std::chrono::steady_clock::now();
  if (call.has("preview"))
    run_preview(call, opened);
  else
    run_all(call, opened);
  write_run_json(opened, std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
}

void run_run(Call& call) {
  survey::Survey opened(call.survey);
  run_stages(call, opened);
}

/// The shipped survey: named, beside the installed program, or in the source tree above a built one.
fs::path find_demo(const Call& call) {
  if (call.has("from")) return call.text("from");
  const fs::path program = fs::read_symlink("/proc/self/exe").parent_path();
  for (const fs::path& place : {program / "../share/mesograph/demo/osterlund", program / "../../../demo/osterlund"})
    if (fs::exists(place / "control.csv")) return fs::weakly_canonical(place);
  throw Error("demo: the demo survey is not beside this program; name its folder with --from");
}

void run_demo(Call& call) {
  const fs::path folder = call.only_path("folder to work in"), source = find_demo(call);
  if (!fs::exists(source / "control.csv"))
    throw Error("{}: holds no demo survey (no control.csv); name the folder that does with --from", source.string());
  if (!fs::exists(folder / "survey.toml")) {
    const survey::Settings settings = survey::read_settings(source / "survey.toml");
    survey::create(folder, settings.name, settings.crs);
    write_file(folder / "survey.toml", read_file(source / "survey.toml"));
    // Sources are noted at once, so that an interrupted demo goes on with the same command.
    std::vector<survey::Source> sources;
    for (const char* sortie : {"grid", "cross"})
      sources.push_back({sortie, fs::absolute(source / "photos" / sortie).lexically_normal()});
    survey::write_sources(folder / "inputs", sources);
    write_file(folder / "inputs" / "control.csv", read_file(source / "control.csv"));
    write_file(folder / "inputs" / "sightings.csv", read_file(source / "sightings.csv"));
  }
  survey::Survey opened(folder);
  run_stages(call, opened);
}

}  // namespace

Command run_command() {
  return {"run",
          "makes everything the survey wants that is not up to date",
          "",
          {{"preview", "ties and orients at reduced resolution, into results/preview"}},
          run_run};
}

Command demo_command() {
  return {"demo",
          "runs the shipped survey of the Osterlund slip from photos to report and cloud",
          "DIR",
          {{"from", "folder of the demo's photos and control", Takes::text}},
          run_demo};
}

}  // namespace mesograph::app
