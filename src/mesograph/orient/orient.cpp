#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/orient/georeference.hpp>
#include <mesograph/orient/growth.hpp>
#include <mesograph/orient/orient.hpp>
#include <mesograph/orient/parts.hpp>

namespace mesograph::orient {

namespace {

bool has_datum(const std::vector<Part>& parts, Datum datum) {
  return std::any_of(parts.begin(), parts.end(), [&](const Part& p) { return p.datum == datum; });
}

/// Takes out photos that the last adjustment left with too few rays that agree; true where there are any.
bool take_out_unsupported(adjust::Block& block, const OrientOptions& options, std::vector<std::string>& reasons) {
  std::vector<int> offered(block.stations.size(), 0), accepted(block.stations.size(), 0);
  for (const adjust::GroundPoint& p : block.points)
    for (const adjust::Ray& r : p.rays) {
      // Points that no longer intersect say nothing for or against the photo.
      if (!p.X.allFinite() || !block.stations[r.station].oriented) continue;
      ++offered[r.station];
      accepted[r.station] += r.accepted;
    }
  bool any = false;
  for (std::size_t s = 0; s < block.stations.size(); ++s) {
    if (!block.stations[s].oriented) continue;
    if (accepted[s] >= options.least_inliers && accepted[s] >= options.least_support * offered[s]) continue;
    block.stations[s].oriented = false;
    reasons[s] = fmt::format("taken out again: only {} of its {} tie points agree", accepted[s], offered[s]);
    any = true;
  }
  return any;
}

std::string words_of(StartStatus start, const OrientOptions& options) {
  if (start == StartStatus::too_narrow)
    return fmt::format(
        "no two photos see their common ground at {:.0f} degrees or more apart; a block needs photos from different "
        "places",
        options.min_start_angle_deg);
  if (start == StartStatus::falls_apart)
    return fmt::format(
        "no two photos keep {} common tie points when they are adjusted; check the principal distances, and whether "
        "the ties are right",
        least_start_ties);
  return fmt::format(
      "no two photos share {} tie points that fit each other; check overlap and run tie with --pairs all",
      least_start_ties);
}

adjust::AdjustResult adjust_parts(adjust::Block& block, const std::vector<Part>& parts, const OrientOptions& options,
                                  std::vector<std::string>& reasons, Progress& progress) {
  adjust::AdjustOptions adjusting;
  adjusting.scope.free = options.free;
  adjusting.scope.control = has_datum(parts, Datum::control);
  adjusting.scope.positions = has_datum(parts, Datum::positions);
  adjust::AdjustResult out = adjust::adjust(block, adjusting, progress);
  // Once: a wrong photo bends its neighbours, which must be adjusted without it; what then lacks support was carried by
  // it and is told of by the report's doubts.
  if (take_out_unsupported(block, options, reasons)) out = adjust::adjust(block, adjusting, progress);
  return out;
}

}  // namespace

OrientResult orient(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                    Progress& progress) {
  OrientResult out;
  // A second run must give what the first gave: nothing of an earlier orientation is used.
  for (adjust::Station& s : block.stations) s.oriented = false;
  GrownParts grown = grow_parts(block, names, options, progress);
  if (grown.start != StartStatus::started) throw Error("orient: {}", words_of(grown.start, options));
  std::vector<std::string>& reasons = grown.reasons;
  out.parts = std::move(grown.parts);
  // Before positions: a part of three photos has too little width to be placed by them, together with a large one it
  // needs none.
  merge_parts(block, out.parts);
  out.positions = georeference(block, out.parts);
  out.free = !has_datum(out.parts, Datum::positions) && !has_datum(out.parts, Datum::control);
  // No datum: upright by the photos' attitudes, so that heights mean something to whoever looks at it.
  if (out.free) level_free(block);
  for (std::size_t i = 0; i < out.parts.size(); ++i)
    for (const int s : out.parts[i].stations)
      if (!block.stations[s].oriented)
        reasons[s] =
            fmt::format("stands in a part of {} photos apart from the others, which nothing ties to the ground",
                        out.parts[i].stations.size());
  out.adjustment = adjust_parts(block, out.parts, options, reasons, progress);
  for (Part& part : out.parts)
    part.stations.erase(
        std::remove_if(part.stations.begin(), part.stations.end(), [&](int s) { return !block.stations[s].oriented; }),
        part.stations.end());
  out.parts.erase(std::remove_if(out.parts.begin(), out.parts.end(), [](const Part& p) { return p.stations.empty(); }),
                  out.parts.end());
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (!block.stations[s].oriented) out.not_oriented.push_back({static_cast<int>(s), reasons[s]});
  return out;
}

void extend_listed(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                   Progress& progress, OrientResult& out) {
  // A listing's block may have millions of rays; a few well spread ones orient its missing photos as well.
  adjust::Block small = thinned(block, options.rays_per_cell);
  for (adjust::Station& s : small.stations) s.held = s.oriented;
  OrientOptions holding = options;
  holding.free.fill(false);  // cameras are the listing's, as its stations are
  Growth growth(small, names, holding, progress);
  growth.start_from_held();
  growth.grow();
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (!block.stations[s].oriented) block.stations[s] = small.stations[s];
  // With all rays again, not the thinned ones.
  intersect_all(block);
  Part part;
  part.datum = Datum::positions;
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (block.stations[s].oriented)
      part.stations.push_back(static_cast<int>(s));
    else
      out.not_oriented.push_back({static_cast<int>(s), "not in the listing; " + growth.reason(static_cast<int>(s))});
  out.parts = {part};
}

}  // namespace mesograph::orient
