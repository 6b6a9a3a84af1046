#include "help.hpp"

#include <fmt/format.h>

namespace mesograph::app {

namespace {

/// An option as a person writes it, and what it is for.
struct Told {
  std::string name, short_name, words;
  bool takes_value = false;
};

std::vector<Told> told(const cxxopts::Options& options) {
  std::vector<Told> out;
  for (const cxxopts::HelpOptionDetails& o : options.group_help("").options) {
    if (o.l.empty() || o.l[0] == "paths") continue;
    out.push_back({o.l[0], o.s, o.desc, !o.is_boolean});
  }
  return out;
}

/// Options that are a command's own.
std::vector<Told> own_options(const Command& command) {
  if (!command.add_options) return {};
  cxxopts::Options options("");
  command.add_options(options);
  return told(options);
}

std::vector<Told> common_options() { return told(options_of({"", "", "", {}, {}})); }

std::string written(const Told& o) {
  return fmt::format("{}--{}{}", o.short_name.empty() ? "" : "-" + o.short_name + ", ", o.name,
                     o.takes_value ? " ARG" : "");
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

std::string roff_options(const std::vector<Told>& options) {
  std::string out;
  for (const Told& o : options) out += fmt::format(".TP\n.B {}\n{}\n", roff(written(o)), roff(o.words));
  return out;
}

/// Cells of a Markdown table hold no bars.
std::string cell(const std::string& text) {
  std::string out;
  for (const char ch : text) out += ch == '|' ? std::string("\\|") : std::string(1, ch);
  return out;
}

std::string table(const std::vector<Told>& options) {
  std::string out = "| option | |\n|---|---|\n";
  for (const Told& o : options) out += fmt::format("| `{}` | {} |\n", written(o), cell(o.words));
  return out;
}

}  // namespace

cxxopts::Options options_of(const Command& command) {
  cxxopts::Options options("mesograph " + command.name, command.summary);
  options.positional_help(command.positional_help);
  auto add = options.add_options();
  add("s,survey", "folder of the survey", cxxopts::value<std::string>()->default_value("."));
  add("threads", "number of threads (default: all cores)", cxxopts::value<int>());
  add("json", "one JSON object on stdout");
  add("quiet", "no progress, no notes");
  add("strict", "exit code 4 where there are warnings");
  add("help", "this text");
  add("paths", "", cxxopts::value<std::vector<std::string>>());
  if (command.add_options) command.add_options(options);
  options.parse_positional({"paths"});
  return options;
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
                       roff_options(own_options(command)));
  return out +
         ".SH EXIT STATUS\n0 done, 1 internal error, 2 usage, 3 bad input, 4 warnings (\\-\\-strict), 130 "
         "interrupted.\n.SH SEE ALSO\nThe manual, the methods and the formats of files stand beside the program, in "
         "share/doc/mesograph.\n";
}

std::string bash_completion() {
  std::vector<std::string> names;
  std::string cases;
  const auto words = [](const std::vector<Told>& options) {
    std::vector<std::string> out;
    for (const Told& o : options) out.push_back("--" + o.name);
    return fmt::format("{}", fmt::join(out, " "));
  };
  for (const Command& command : commands()) {
    names.push_back(command.name);
    if (const std::string own = words(own_options(command)); !own.empty())
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
    const std::vector<Told> own = own_options(command);
    out += fmt::format("\n## {}{}{}\n\n{}.\n", command.name, command.positional_help.empty() ? "" : " ",
                       command.positional_help, command.summary);
    if (!own.empty()) out += "\n" + table(own);
  }
  return out;
}

}  // namespace mesograph::app
