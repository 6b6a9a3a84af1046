#pragma once

#include <mesograph/stages/outcome.hpp>
#include <mesograph/stages/tie_options.hpp>

namespace mesograph::stages {

/// Finds or imports tie points. Keypoints are kept per photo, matches per photo and its partners: what is there already
/// is taken, so an interrupted run goes on where it stopped.
/// Cost: keypoints linear in photos, matching linear in pairs: planned pairs grow with photos, `all` with their square.
Outcome<Tied> tie(survey::Survey& survey, const TieOptions& options, Progress& progress);

/// What tie() would be made from, with the default options.
std::string tie_fingerprint(const survey::Survey& survey, const TieOptions& options = {});
}  // namespace mesograph::stages
