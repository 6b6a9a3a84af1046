#include "help.hpp"

#include <fmt/format.h>

namespace mesograph::app {

namespace {

/// What every command takes.
const std::vector<Option>& common_options() {
  static const std::vector<Option> all = {
      {"survey", "folder of the survey", Takes::text, "s", "."},
      {"threads", "number of threads (default: all cores)", Takes::whole},
      {"json", "one JSON object on stdout"},
      {"quiet", "no progress, no notes"},
      {"strict", "exit code 4 where there are warnings"},
      {"trace", "file for what was done when, by step and thread (trace event JSON, for a browser)", Takes::text},
      {"help", "this text"},
  };
  return all;
}

std::string written(const Option& o) {
  return fmt::format("{}--{}{}", o.short_name.empty() ? "" : "-" + o.short_name + ", ", o.name,
                     o.takes == Takes::nothing ? "" : " ARG");
}

/// Text of a manual page: a hyphen stays one, a dot or quote that begins a line is no request.
std::string roff(const std::string& text) {
  std::string out;
  for (const char ch : text) {
    if (ch == '-' || ch == '\\') out += '\\';
    out += ch;
  }
  return out.starts_with('.') || out.starts_with('\'') ? "\\&" + out : out;
}

std::string roff_options(const std::vector<Option>& options) {
  std::string out;
  for (const Option& o : options) out += fmt::format(".TP\n.B {}\n{}\n", roff(written(o)), roff(o.words));
  return out;
}

/// Cells of a Markdown table hold no bars.
std::string cell(const std::string& text) {
  std::string out;
  for (const char ch : text) out += ch == '|' ? std::string("\\|") : std::string(1, ch);
  return out;
}

std::string table(const std::vector<Option>& options) {
  std::string out = "| option | |\n|---|---|\n";
  for (const Option& o : options) out += fmt::format("| `{}` | {} |\n", written(o), cell(o.words));
  return out;
}

}  // namespace

std::vector<Option> options_of(const Command& command) {
  std::vector<Option> out = common_options();
  out.insert(out.end(), command.options.begin(), command.options.end());
  return out;
}

std::string overview() {
  std::string out = fmt::format(
      "mesograph {}: from drone photos to adjusted, georeferenced clouds.\n\nusage: mesograph COMMAND [PATH...] "
      "[options]\n\n",
      MESOGRAPH_VERSION);
  for (const Command& command : commands()) out += fmt::format("  {:<10} {}\n", command.name, command.summary);
  return out +
         "\n'mesograph COMMAND --help' tells more. Exit codes: 0 done, 1 internal error, 2 usage, 3 bad input, 4 "
         "warnings (--strict), 130 interrupted.\n";
}

std::string man_page() {
  std::string out = fmt::format(
      ".TH MESOGRAPH 1 \"\" \"mesograph {}\"\n.SH NAME\nmesograph \\- from drone photos to adjusted, georeferenced "
      "clouds\n.SH SYNOPSIS\n.B mesograph\n.I COMMAND\n.RI [ PATH... ]\n.RI [ options ]\n.SH OPTIONS OF EVERY "
      "COMMAND\n",
      MESOGRAPH_VERSION);
  out += roff_options(common_options()) + ".SH COMMANDS\n";
  for (const Command& command : commands())
    out += fmt::format(".SS {}\n{}\n{}", roff(command.name + " " + command.positional_help), roff(command.summary),
                       roff_options(command.options));
  return out +
         ".SH EXIT STATUS\n0 done, 1 internal error, 2 usage, 3 bad input, 4 warnings (\\-\\-strict), 130 "
         "interrupted.\n.SH SEE ALSO\nThe manual, the methods and the formats of files stand beside the program, in "
         "share/doc/mesograph.\n";
}

std::string bash_completion() {
  std::vector<std::string> names;
  std::string cases;
  const auto words = [](const std::vector<Option>& options) {
    std::vector<std::string> out;
    for (const Option& o : options) out.push_back("--" + o.name);
    return fmt::format("{}", fmt::join(out, " "));
  };
  for (const Command& command : commands()) {
    names.push_back(command.name);
    if (const std::string own = words(command.options); !own.empty())
      cases += fmt::format("    {}) own=\"{}\" ;;\n", command.name, own);
  }
  return fmt::format(
      "# Completion of mesograph for bash: commands, then their options, then files.\n"
      "_mesograph() {{\n"
      "  local word=${{COMP_WORDS[COMP_CWORD]}} own=\n"
      "  if [ \"$COMP_CWORD\" -eq 1 ]; then\n"
      "    mapfile -t COMPREPLY < <(compgen -W \"{}\" -- \"$word\")\n"
      "    return\n"
      "  fi\n"
      "  case ${{COMP_WORDS[1]}} in\n{}  esac\n"
      "  if [[ $word == -* ]]; then\n"
      "    mapfile -t COMPREPLY < <(compgen -W \"$own {}\" -- \"$word\")\n"
      "  else\n"
      "    mapfile -t COMPREPLY < <(compgen -f -- \"$word\")\n"
      "  fi\n"
      "}}\n"
      "complete -o filenames -F _mesograph mesograph\n",
      fmt::join(names, " "), cases, words(common_options()));
}

std::string options_page() {
  std::string out =
      "# Options\n\nAll options of all commands, as `--help` has them: this page is made by `mesograph help options`. "
      "What they do is told in the [manual](manual.md).\n\n## Every command\n\n" +
      table(common_options());
  for (const Command& command : commands()) {
    const std::vector<Option>& own = command.options;
    out += fmt::format("\n## {}{}{}\n\n{}.\n", command.name, command.positional_help.empty() ? "" : " ",
                       command.positional_help, command.summary);
    if (!own.empty()) out += "\n" + table(own);
  }
  return out;
}

}  // namespace mesograph::app
