#pragma once

#include <mesograph/report/material.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

/// Files of a report, relative to the survey's folder.
struct Reported {
  std::string file;
  std::optional<std::string> pdf;  ///< nothing where nobody wants it or it could not be made

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("file", s.file), visit("pdf", s.pdf);
  }
};

/// The last adjustment with all that a report on it says, as values. Throws Error where nothing is adjusted.
report::Material report_material(const survey::Survey& survey);

struct ReportStageOptions {
  std::string compare;  ///< beside the adjustment kept under this name (adjust --as); empty: beside none
  bool pdf = false;     ///< also where [products] does not want it
};

/// results/report.html and its figures from the last adjustment, and report.pdf where it is wanted. Throws Error where
/// nothing is adjusted, or none is kept under the name.
/// Cost: a second or two, and ten for the PDF.
Outcome<Reported> report(survey::Survey& survey, const ReportStageOptions& options, Progress& progress);
std::string report_fingerprint(const survey::Survey& survey, const std::string& compare = "");

}  // namespace mesograph::stages
