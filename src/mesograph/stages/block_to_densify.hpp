#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// The adjusted block; else one that a listing orients, its stations and cameras as they are. Throws Error where there
/// is none, or where the adjustment is out of date and `force` does not take it all the same.
adjust::NamedBlock block_to_densify(const survey::Survey& survey, const survey::PhotoTable& photos, bool force,
                                    Progress& progress);
/// What that block's state follows from.
std::string densified_block_print(const survey::Survey& survey);

}  // namespace mesograph::stages
