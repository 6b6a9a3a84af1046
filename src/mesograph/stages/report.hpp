#pragma once

#include <mesograph/report/material.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

/// Files of a report, relative to the survey's folder.
struct Reported {
  std::string file;
  std::optional<std::string> pdf;  ///< nothing where it could not be made

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("file", s.file), visit("pdf", s.pdf);
  }
};

/// The last adjustment with all that a report on it says, as values. Throws Error where nothing is adjusted.
report::Material report_material(const survey::Survey& survey);

/// results/report.html, report.pdf and its figures from the last adjustment; `compare`: beside the one kept under this
/// name (adjust --as). Throws Error where nothing is adjusted, or none is kept so.
/// Cost: seconds, most of them the PDF.
Outcome<Reported> report(survey::Survey& survey, const std::string& compare, Progress& progress);
std::string report_fingerprint(const survey::Survey& survey, const std::string& compare = "");

}  // namespace mesograph::stages
