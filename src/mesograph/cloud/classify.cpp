#include <algorithm>
#include <mesograph/cloud/class_cells.hpp>
#include <mesograph/cloud/classify.hpp>
#include <mesograph/cloud/filters.hpp>

namespace mesograph::cloud {

namespace {

/// What rules say of cells.
struct Rules {
  CellMarks buildings, plants, roads, water;
};

std::uint8_t class_of(bool ground, std::size_t cell, const Rules& rules, double above, const ClassifyOptions& options) {
  if (rules.water[cell]) return class_water;
  if (ground) return rules.roads[cell] ? class_road : class_ground;
  if (above < 0) return class_low_noise;
  if (rules.buildings[cell]) return class_building;
  if (!rules.plants[cell]) return class_other;
  return above >= options.high_plants     ? class_high_plants
         : above >= options.middle_plants ? class_middle_plants
                                          : class_low_plants;
}

}  // namespace

double classify_rim(const ClassifyOptions& options) { return ground_rim(options.ground); }

std::vector<std::uint8_t> classify(const std::vector<TilePoint>& points, const ClassifyOptions& options,
                                   const Progress& progress) {
  const Terrain terrain = terrain_of(points, options.ground, progress);
  std::vector<std::uint8_t> out = terrain.words;
  if (points.empty()) return out;
  const ClassCells cells = class_cells(points, terrain);
  progress.check();
  Rules rules;
  rules.buildings = building_cells(cells, options);
  progress.check();
  rules.plants = plant_cells(cells, rules.buildings, options);
  progress.check();
  rules.roads = road_cells(cells, options);
  rules.water = water_cells(cells, options);
  progress.check();
  std::vector<std::uint8_t> held(points.size(), 1);
  drop_small_groups(points, std::max(options.noise_gap, 3 * plan_spacing(points)), CleanOptions().least_group, held);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const double above = points[i].X.z() - height_at(cells.ground, points[i].X);
    const bool ground = terrain.words[i] == class_ground;
    out[i] = class_of(ground, cells.top.index_of(points[i].X), rules, above, options);
    if (!held[i] && !ground) out[i] = above < 0 ? class_low_noise : class_high_noise;
    if (!options.only.empty() && !options.only.contains(out[i])) out[i] = points[i].point_class;
  }
  return out;
}

}  // namespace mesograph::cloud
