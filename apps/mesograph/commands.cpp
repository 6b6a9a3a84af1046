#include "console.hpp"

namespace mesograph::app {

const std::vector<Command>& commands() {
  static const std::vector<Command> all = {
      new_command(),     crs_command(),    admit_command(),    tie_command(),     orient_command(),  control_command(),
      sight_command(),   adjust_command(), report_command(),   measure_command(), densify_command(), cloud_command(),
      surface_command(), mosaic_command(), mesh_command(),     volume_command(),  compare_command(), export_command(),
      run_command(),     status_command(), simulate_command(), demo_command()};
  return all;
}

}  // namespace mesograph::app
