#pragma once

#include <mesograph/report/material.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// What an adjustment said; `summary` is adjustment.json.
struct Adjusted {
  report::AdjustmentSummary summary;
  std::vector<report::PointResult> points;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("summary", s.summary), visit("points", s.points);
  }
};

/// The result of the last adjustment. Throws Error where nothing is adjusted yet.
/// Exact: to the bit as it was kept. Cost: one read of the register.
Adjusted last_adjustment(const survey::Survey& survey);
/// What the last adjustment predicts, from its block and the parameters that were free in it; nothing where none has
/// run.
std::optional<adjust::Uncertainty> adjusted_uncertainty(const survey::Survey& survey, const adjust::Block& block);
/// An adjustment that was kept beside, and its file. Throws Error where there is none of that name.
report::KeptAdjustment kept_adjustment(const survey::Survey& survey, const std::string& name);
void keep_adjustment(const survey::Survey& survey, const std::string& name, const report::KeptAdjustment& kept);
std::filesystem::path kept_file(const survey::Survey& survey, const std::string& name);

}  // namespace mesograph::stages
