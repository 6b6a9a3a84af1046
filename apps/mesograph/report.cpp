#include <mesograph/stages/report.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_report(Call& call) {
  survey::Survey opened(call.survey);
  const auto outcome = stages::report(opened, {call.text("compare"), call.has("pdf")}, call.progress);
  call.json = json_of(outcome.result);
  const std::string pdf = outcome.result.pdf ? ", " + *outcome.result.pdf : "";
  call.lines.push_back(outcome.result.file + pdf + standing_words(call, opened, "report", outcome.made));
}

}  // namespace

Command report_command() {
  return {"report",
          "writes results/report.html from the last adjustment",
          "",
          {{"compare", "beside the adjustment that adjust --as NAME kept", Takes::text},
           {"pdf", "results/report.pdf, too; always with \"pdf\" in [products] want"}},
          run_report};
}

}  // namespace mesograph::app
