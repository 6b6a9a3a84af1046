#pragma once

#include <string>

namespace mesograph::photo {

/// A reason of ScreenedOut with the figure behind it as people say it: "blurred: 0.10 of the sharpness around it".
std::string screening_words(const std::string& reason, double value);

}  // namespace mesograph::photo
