#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// What a person looks at before the long run: results/sparse.las, the tie points in the colours of the photos (of
/// their heights where there are no pixels), and results/figures/block.png, stations and points in plan and from the
/// side. Gives the files.
std::vector<std::filesystem::path> draw_block(const survey::Survey& survey, const survey::PhotoTable& photos,
                                              const adjust::NamedBlock& named, Progress& progress);

}  // namespace mesograph::stages
