#include "cell_size.hpp"

#include <mesograph/adjust/block.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/block_to_densify.hpp>

namespace mesograph::app {

double cell_size(const Call& call, Progress& progress) {
  const std::string text = call.text("cell");
  if (text.empty()) return std::numeric_limits<double>::quiet_NaN();
  char* end = nullptr;
  double value = std::strtod(text.c_str(), &end);
  if (std::string(end) == "px") {
    const survey::Survey opened(call.survey);
    value *= adjust::ground_sampling_distance(
        stages::block_to_densify(opened, survey::load_photos(opened), true, progress).block);
  } else if (*end != '\0') {
    throw UsageError("--cell {}: write metres, as in 0.1, or pixels on the ground, as in 2px", text);
  }
  if (!(value > 0)) throw UsageError("--cell must be greater than 0");
  return value;
}

}  // namespace mesograph::app
