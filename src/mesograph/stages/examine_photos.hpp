#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Examines the photos that are new or have changed: size, metadata, quality; those of 16 bits by one law a sortie.
/// Damage becomes the reason for which a photo is screened out. Gives for each whether it was known.
/// Cost: every photo is read once for its hash, new ones are decoded at half size.
std::vector<char> examine_photos(const survey::Survey& survey, std::vector<survey::Photo>& photos, Progress& progress);

/// Screened out for a reason that no screening of its sortie changes: it has no pixels that can be read, or is a copy.
bool is_unreadable(const survey::Photo& photo);
bool is_copy(const survey::Photo& photo);

}  // namespace mesograph::stages
