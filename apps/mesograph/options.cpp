#include "options.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cxxopts.hpp>
#include <mesograph/base/errors.hpp>

namespace mesograph::app {

namespace {

constexpr const char* paths_name = "paths";

std::shared_ptr<cxxopts::Value> value_of(const Option& option) {
  switch (option.takes) {
    case Takes::text:
      return option.standard.empty() ? cxxopts::value<std::string>()
                                     : cxxopts::value<std::string>()->default_value(option.standard);
    case Takes::list:
      return cxxopts::value<std::vector<std::string>>();
    case Takes::number:
      return cxxopts::value<double>();
    case Takes::whole:
      return cxxopts::value<int>();
    case Takes::large:
      return cxxopts::value<std::uint64_t>();
    case Takes::nothing:
      break;
  }
  return cxxopts::value<bool>();
}

cxxopts::Options parser_of(const std::string& command, const std::string& summary, const std::vector<Option>& options) {
  cxxopts::Options out("mesograph " + command, summary);
  auto add = out.add_options();
  for (const Option& o : options)
    add(o.short_name.empty() ? o.name : o.short_name + "," + o.name, o.words, value_of(o));
  add(paths_name, "", cxxopts::value<std::vector<std::string>>());
  out.parse_positional({paths_name});
  return out;
}

}  // namespace

Given parse(const std::vector<Option>& options, int argc, char** argv) try {
  const cxxopts::ParseResult parsed = parser_of("", "", options).parse(argc, argv);
  Given out;
  for (const auto& given : parsed.arguments()) {
    if (given.key() == paths_name) {
      out.paths_.push_back(given.value());
      continue;
    }
    auto& written = out.written_[given.key()];
    const bool list = std::any_of(options.begin(), options.end(),
                                  [&](const Option& o) { return o.name == given.key() && o.takes == Takes::list; });
    if (!written.empty() && written.back() != given.value() && !list)
      throw UsageError("--{} is given twice: {} and {}; one of them is meant", given.key(), written.back(),
                       given.value());
    if (list || written.empty()) written.push_back(given.value());
  }
  for (const Option& o : options) {
    out.standard_[o.name] = o.standard;
    if (!out.has(o.name)) continue;
    if (o.takes == Takes::number) out.numbers_[o.name] = parsed[o.name].as<double>();
    if (o.takes == Takes::whole) out.wholes_[o.name] = parsed[o.name].as<int>();
    if (o.takes == Takes::large) out.large_[o.name] = parsed[o.name].as<std::uint64_t>();
  }
  return out;
} catch (const cxxopts::exceptions::exception& error) {
  throw UsageError("{}; see --help", error.what());
}

std::string help_text(const std::string& command, const std::string& summary, const std::string& positional_help,
                      const std::vector<Option>& options) {
  return parser_of(command, summary, options).positional_help(positional_help).help();
}

namespace {

template <typename T>
std::optional<T> found(const std::map<std::string, T>& values, const std::string& name) {
  const auto at = values.find(name);
  return at == values.end() ? std::nullopt : std::optional<T>(at->second);
}

}  // namespace

std::string Given::text(const std::string& name) const {
  const auto written = found(written_, name);
  if (!written) return found(standard_, name).value_or("");
  return written->size() == 1 ? written->front() : fmt::format("{}", fmt::join(list(name), ","));
}

std::vector<std::string> Given::list(const std::string& name) const {
  std::vector<std::string> out;
  for (const std::string& written : found(written_, name).value_or(std::vector<std::string>()))
    for (const std::string& part : split_list(written)) out.push_back(part);
  return out;
}

std::optional<double> Given::number(const std::string& name) const { return found(numbers_, name); }
std::optional<int> Given::whole(const std::string& name) const { return found(wholes_, name); }
std::optional<std::uint64_t> Given::large(const std::string& name) const { return found(large_, name); }

std::vector<std::string> split_list(const std::string& text, char separator) {
  std::vector<std::string> parts;
  std::string part;
  for (const char ch : text + separator) {
    if (ch != separator) {
      part += ch;
      continue;
    }
    if (!part.empty()) parts.push_back(part);
    part.clear();
  }
  return parts;
}

}  // namespace mesograph::app
