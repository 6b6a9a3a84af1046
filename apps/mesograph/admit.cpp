#include <mesograph/survey/admit.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_admit(Call& call) {
  survey::Survey opened(call.survey);
  survey::AdmitOptions options;
  for (const std::string& path : call.paths) options.paths.emplace_back(path);
  options.sortie = call.text("sortie");
  options.drop = split_list(call.text("drop"));
  options.keep = split_list(call.text("keep"));
  options.moved_to = call.text("photos");
  options.listing = call.text("listing");
  options.cameras = call.text("cameras");
  call.json = survey::admit(opened, options, call.progress).summary;
  const auto& screened = call.json["screened_out"];
  call.lines.push_back(fmt::format("{}{} photos: {} new, {} known, {} screened out",
                                   options.sortie.empty() ? "" : options.sortie + ": ", call.json["photos"].get<int>(),
                                   call.json["admitted"].get<int>(), call.json["already"].get<int>(), screened.size()));
  for (const auto& photo : screened)
    call.lines.push_back(
        fmt::format("  {:<20} {}{}", photo["image"].get<std::string>(), photo["reason"].get<std::string>(),
                    photo["value"].is_number() ? fmt::format(" ({:.3g})", photo["value"].get<double>()) : ""));
}

}  // namespace

Command admit_command() {
  return {"admit", "adds photos or folders of a sortie, screens out what is useless", "[PATH...]",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("sortie", "the flight these photos are of", cxxopts::value<std::string>());
            add("drop", "name patterns of photos to leave out", cxxopts::value<std::string>());
            add("keep", "name patterns of photos to take in all the same", cxxopts::value<std::string>());
            add("photos", "folder that the photos were moved to; they are known by their content",
                cxxopts::value<std::string>());
            add("listing", "stations.csv with start values; without PATH: photos without pixels",
                cxxopts::value<std::string>());
            add("cameras", "cameras.json that the listing names", cxxopts::value<std::string>());
          },
          run_admit};
}

}  // namespace mesograph::app
