#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::app {

/// What is written behind an option.
enum class Takes {
  nothing,  ///< a switch
  text,
  list,    ///< parts with commas between; the option may be given several times, which no other may
  number,  ///< with a point
  whole,
  large,  ///< whole and not negative, up to 64 bits
};

/// A row of a command's table of options, from which its parser, --help, the manual page, the completion and
/// docs/options.md are made.
struct Option {
  std::string name, words;
  Takes takes = Takes::nothing;
  std::string short_name = {},
              standard = {};  ///< `standard`: what stands where the option is not given; empty: nothing
};

/// A command line as it was understood.
class Given {
 public:
  bool has(const std::string& name) const { return written_.count(name) > 0; }
  /// An option as it was written, of a list its parts with commas between, else its standard; empty: neither.
  std::string text(const std::string& name) const;
  /// Parts of a list; none where it was not given.
  std::vector<std::string> list(const std::string& name) const;
  /// Numbers of options that take them; nothing where they were not given.
  std::optional<double> number(const std::string& name) const;
  std::optional<int> whole(const std::string& name) const;
  std::optional<std::uint64_t> large(const std::string& name) const;
  /// What is no option, as it was written, commas and all.
  const std::vector<std::string>& paths() const { return paths_; }

 private:
  friend Given parse(const std::vector<Option>& options, int argc, char** argv);
  std::map<std::string, std::vector<std::string>> written_;
  std::map<std::string, std::string> standard_;
  std::map<std::string, double> numbers_;
  std::map<std::string, int> wholes_;
  std::map<std::string, std::uint64_t> large_;
  std::vector<std::string> paths_;
};

/// Understands argv[1] to argv[argc - 1]. Throws UsageError where an option is unknown, lacks its value, has one that
/// is no number where one is needed, or is given twice and is no list: the first would be lost without a word.
Given parse(const std::vector<Option>& options, int argc, char** argv);

/// The text of --help: what the command does, how it is called, its options.
std::string help_text(const std::string& command, const std::string& summary, const std::string& positional_help,
                      const std::vector<Option>& options);

/// Comma-separated list -> its parts; empty ones are left out.
std::vector<std::string> split_list(const std::string& text, char separator = ',');

}  // namespace mesograph::app
