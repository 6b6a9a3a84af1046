#pragma once

#include <mesograph/report/page.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// What a report says of the cloud that was made last, where it was made of the adjustment that stands and is as it was
/// written: figures, classes, its picture, how sure its points are, heights at surveyed points. Nothing where there is
/// no such cloud, or one as PLY. Accuracy: that of the cloud. Cost: four readings of it.
std::optional<report::Section> cloud_section(const survey::Survey& survey, Progress& progress);

/// Changes where that section would if the file is as it was written; empty: there is none. Cost: a look at the store.
std::string cloud_section_print(const survey::Survey& survey);

}  // namespace mesograph::stages
