#include <algorithm>
#include <mesograph/adjust/layout.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>

namespace mesograph::adjust {

Layout make_layout(const Block& block, const Scope& scope) {
  Layout out;
  out.station.assign(block.stations.size(), -1);
  out.motion.assign(block.stations.size(), -1);
  out.camera.assign(block.cameras.size(), -1);
  for (std::vector<int>* common : {&out.sortie, &out.drift, &out.boresight}) common->assign(block.sorties.size(), -1);
  out.end.assign(block.surveyed.size(), -1);
  std::vector<char> camera_used(block.cameras.size(), 0), placed(block.sorties.size(), 0),
      turned(block.sorties.size(), 0);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (!s.oriented || (!scope.stations.empty() && !scope.stations[i])) continue;
    // A camera that no oriented photo was taken with has no observations; columns for it would make the system
    // singular.
    camera_used[s.camera] = !block.priors[s.camera].held && (scope.cameras.empty() || scope.cameras[s.camera]);
    if (s.held) continue;
    out.station[i] = out.columns;
    out.columns += 6;
    // The motion follows its station at once: the two are one block of the pattern's neighbours.
    if (rolls(block, s)) out.motion[i] = out.columns, out.columns += 6;
    if (scope.positions && s.position.allFinite()) placed[s.sortie] = 1;
    if (scope.positions && s.sigma_attitude > 0) turned[s.sortie] = 1;
  }
  // From here on the border: what many photos share comes last, so that the sparse part keeps its pattern and the fill
  // stays in a few dense rows.
  out.station_columns = out.columns;
  for (std::size_t k = 0; k < camera::parameter_count; ++k)
    if (scope.free[k]) out.free.push_back(static_cast<camera::Parameter>(k));
  for (std::size_t i = 0; i < block.cameras.size(); ++i) {
    if (!camera_used[i] || out.free.empty()) continue;
    out.camera[i] = out.columns;
    out.columns += static_cast<int>(out.free.size());
  }
  for (std::size_t i = 0; i < block.sorties.size(); ++i) {
    const auto claim = [&](std::vector<int>& common) { common[i] = out.columns, out.columns += 3; };
    if (placed[i]) claim(out.sortie);
    if (placed[i] && block.sorties[i].drifts) claim(out.drift);
    if (turned[i]) claim(out.boresight);
  }
  // Ends of bars are not eliminated like other points: the bar ties two of them, and the reduction works one by one.
  for (const ScaleBar& bar : block.scale_bars) {
    if (!scope.control || !takes_part(block, bar)) continue;
    for (const std::size_t i : {bar.a, bar.b})
      if (out.end[i] < 0) out.end[i] = out.columns, out.columns += 3;
  }
  // Nor are points whose errors go together: their weight ties all of them.
  for (const std::size_t i : block.joint.points)
    if (scope.control && out.end[i] < 0 && takes_part_jointly(block, i)) out.end[i] = out.columns, out.columns += 3;
  return out;
}

std::array<bool, camera::parameter_count> free_from(const std::vector<std::string>& names, const std::string& what) {
  std::array<bool, camera::parameter_count> out{};
  for (const std::string& name : names) {
    const auto found = std::find(camera::parameter_names.begin(), camera::parameter_names.end(), name);
    if (found == camera::parameter_names.end())
      throw Error("{} {}: no such parameter; known are {}", what, name, fmt::join(camera::parameter_names, ","));
    out[static_cast<std::size_t>(found - camera::parameter_names.begin())] = true;
  }
  return out;
}

}  // namespace mesograph::adjust
