#pragma once

#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// What a person looks at before the long run: results/sparse.las, the tie points in the colours of the photos (of
/// their heights where there are no pixels), and results/figures/block.png, stations and points in plan and from the
/// side. Gives the files.
std::vector<std::filesystem::path> draw_block(const Survey& survey, const PhotoTable& photos, const NamedBlock& named,
                                              Progress& progress);

}  // namespace mesograph::survey
