#pragma once

#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/tie_table.hpp>

namespace mesograph::stages {

/// results/figures/pairs.png (which photo is tied to which, how strongly, the weakest photos named) and rays.png (how
/// many rays the tie points have). Gives the files.
std::vector<std::filesystem::path> draw_ties(const survey::Survey& survey, const survey::PhotoTable& table,
                                             const survey::TieTable& ties);

/// Matches of two photos drawn over them, as a PNG. Throws Error where a photo is unknown or has no pixels.
std::string matches_figure(const survey::Survey& survey, const std::string& image_a, const std::string& image_b);

}  // namespace mesograph::stages
