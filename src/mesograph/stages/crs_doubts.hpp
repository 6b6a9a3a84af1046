#pragma once

#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Why the survey's system can hardly be that of its photos: they lie outside the area that it is made for. Empty: no
/// doubt, or nothing known.
std::string zone_doubt(const survey::Survey& survey, const survey::PhotoTable& photos);

/// Why the positions of some sortie must not be used as they are: claimed better than the datum operation that brings
/// them into the survey's system. Empty: no doubt.
std::string datum_doubt(const survey::Survey& survey, const survey::PhotoTable& photos);

}  // namespace mesograph::stages
