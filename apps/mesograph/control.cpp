#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

/// "check=P01,P02,off=P07": a part without '=' belongs to the role before it.
std::vector<std::pair<adjust::Role, std::string>> roles_from(const std::vector<std::string>& parts) {
  std::vector<std::pair<adjust::Role, std::string>> out;
  adjust::Role role = adjust::Role::control;
  bool named = false;
  for (const std::string& part : parts) {
    const auto equals = part.find('=');
    if (equals != std::string::npos) {
      const std::string word = part.substr(0, equals);
      if (word != "control" && word != "check" && word != "off")
        throw UsageError("--role {}: write control, check or off before '='", part);
      role = word == "control" ? adjust::Role::control : word == "check" ? adjust::Role::check : adjust::Role::off;
      named = true;
    }
    if (!named) throw UsageError("--role {}: write it as check=ID,ID", part);
    out.emplace_back(role, equals == std::string::npos ? part : part.substr(equals + 1));
  }
  return out;
}

void run_control(Call& call) {
  survey::Survey opened(call.survey);
  survey::ControlOptions options;
  if (!call.paths.empty()) options.file = call.only_path("file");
  options.roles = roles_from(call.list("role"));
  options.dry_run = call.has("dry-run") || (call.has("list") && options.file.empty() && options.roles.empty());
  call.json = survey::control(opened, options, call.progress).summary;
  call.lines.push_back(fmt::format("{} points: {} control, {} check, {} off", call.json["points"].get<int>(),
                                   call.json["control"].get<int>(), call.json["check"].get<int>(),
                                   call.json["off"].get<int>()));
  if (call.has("list")) {
    const auto file = call.has("dry-run") && !options.file.empty() ? options.file : opened.inputs() / "control.csv";
    for (const std::string& line : split_list(read_file(file), '\n')) call.lines.push_back(line);
  }
}

}  // namespace

Command control_command() {
  return {"control", "adds ground control and check points", "[FILE]",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("role", "change roles: check=ID,ID or control=ID or off=ID", cxxopts::value<std::string>());
            add("list", "print the points");
            add("dry-run", "read and count, change nothing");
          },
          run_control};
}

}  // namespace mesograph::app
