#include <algorithm>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/seam_block.hpp>

namespace mesograph::mosaic {

namespace {

/// Part of the coarse grid that is looked at for a block.
struct Window {
  int first_col, first_row, columns, rows;
};

Window window_of(const MosaicPlan& plan, int block_col, int block_row) {
  const int first_col = std::max(0, block_col * block_side - block_rim),
            first_row = std::max(0, block_row * block_side - block_rim);
  return {first_col, first_row, std::min(plan.coarse.columns, (block_col + 1) * block_side + block_rim) - first_col,
          std::min(plan.coarse.rows, (block_row + 1) * block_side + block_rim) - first_row};
}

}  // namespace

std::vector<int> stations_of(const MosaicPlan& plan, int block_col, int block_row) {
  const Window w = window_of(plan, block_col, block_row);
  return plan.stations_over(w.first_col, w.first_row, w.columns, w.rows);
}

SeamBlock choose_block(const MosaicPlan& plan, int block_col, int block_row, const OfferOf& offer_of,
                       Progress& progress) {
  const Window w = window_of(plan, block_col, block_row);
  surface::Grid grid = plan.coarse;
  grid.west += w.first_col * grid.cell, grid.north -= w.first_row * grid.cell;
  grid.columns = w.columns, grid.rows = w.rows;
  const std::vector<int> stations = stations_of(plan, block_col, block_row);
  std::vector<Candidate> candidates(stations.size());
  progress.start("looking at what photos see", stations.size());
  parallel_for(stations.size(), [&](std::size_t k) {
    progress.check();
    const OfferedPhoto offered = offer_of(stations[k]);
    const auto index = static_cast<std::size_t>(stations[k]);
    const camera::Camera& camera = plan.block->cameras[static_cast<std::size_t>(plan.block->stations[index].camera)];
    const Offer offer{&offered.reduced, camera.interior[camera::c], camera.width, camera.height, offered.sharpness};
    candidates[k] = candidate_of(*plan.sight_of(stations[k]), plan.boxes[index], offer, *plan.ground, grid,
                                 plan.grid.cell, plan.toning, {});
    progress.advance();
  });
  vote_out_odd(candidates, grid, {});
  std::vector<float> rough(grid.size());
  for (int row = 0; row < grid.rows; ++row)
    std::copy_n(&plan.rough[plan.coarse.at(w.first_col, w.first_row + row)], grid.columns, &rough[grid.at(0, row)]);
  const Labels labels = choose_seams(candidates, grid, rough, {}, progress);
  SeamBlock out;
  out.first_col = block_col * block_side, out.first_row = block_row * block_side;
  out.columns = std::min(block_side, plan.coarse.columns - out.first_col);
  out.rows = std::min(block_side, plan.coarse.rows - out.first_row);
  const int off_col = out.first_col - w.first_col, off_row = out.first_row - w.first_row;
  for (int row = 0; row < out.rows; ++row)
    for (int col = 0; col < out.columns; ++col) {
      const int own = labels.candidate[grid.at(off_col + col, off_row + row)];
      out.station.push_back(own < 0 ? -1 : candidates[static_cast<std::size_t>(own)].station);
    }
  for (const Candidate& c : candidates)
    for (int row = std::max(off_row, c.first_row); row < std::min(off_row + out.rows, c.first_row + c.rows); ++row)
      for (int col = std::max(off_col, c.first_col); col < std::min(off_col + out.columns, c.first_col + c.columns);
           ++col)
        if (c.odd[c.at(col, row)] != 0) {
          out.odd_station.push_back(c.station);
          out.odd_square.push_back(plan.coarse.at(w.first_col + col, w.first_row + row));
        }
  for (const SeamStep& step : labels.steps)
    if (step.col >= off_col && step.row >= off_row && step.col < off_col + out.columns && step.row < off_row + out.rows)
      out.steps.push_back(step.levels);
  return out;
}

}  // namespace mesograph::mosaic
