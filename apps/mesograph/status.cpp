#include <fmt/format.h>

#include <mesograph/stages/status.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_status(Call& call) {
  const survey::Survey opened(call.survey, survey::Access::look);
  const auto states = stages::stage_states(opened);
  call.json["stages"] = json_of(states);
  call.lines.push_back(fmt::format("{} ({})", opened.settings.name, opened.crs.name));
  for (const stages::StageState& s : states)
    call.lines.push_back(fmt::format("  {:<8} {:<12} {}", s.name, word_of(s.state), s.reason));
  const std::string next = stages::next_step(opened, states);
  call.json["next"] = next;
  call.lines.push_back(next.empty() ? "everything is current" : "next: " + next);
}

}  // namespace

Command status_command() {
  return {"status", "says what is done, what is out of date and what to do next", "", {}, run_status};
}

}  // namespace mesograph::app
