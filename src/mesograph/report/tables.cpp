#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/items.hpp>
#include <mesograph/report/tables.hpp>

namespace mesograph::report {

std::string fixed(double value, int decimals) {
  return std::isfinite(value) ? fmt::format("{:.{}f}", value, decimals) : "-";
}

std::string signed_fixed(double value, int decimals) {
  return std::isfinite(value) ? fmt::format("{:+.{}f}", value, decimals) : "-";
}

namespace {

TableBlock points_table(const Material& source, adjust::Role role, const char* title, const char* note,
                        const std::optional<Accuracy>& accuracy) {
  const bool checks = role == adjust::Role::check;
  TableBlock out{title, note, {"point", "dE m", "dN m", "dH m", "rays", "rms px"}, {}, accuracy.has_value()};
  if (checks) out.header.insert(out.header.end(), {"predicted E m", "N m", "H m"});
  for (const PointResult& p : source.points) {
    if (p.role != role) continue;
    std::vector<std::string> cells = {p.id};
    for (const double error : p.error) cells.push_back(signed_fixed(error, 3));
    cells.push_back(std::to_string(p.rays)), cells.push_back(fixed(p.rms_px, 2));
    for (int a = 0; a < 3; ++a)
      if (checks) cells.push_back(fixed(p.error_sigma[a], 3));
    // What too few photos show has no error, and must not pass for good.
    if (p.idle()) cells[5] = "takes no part";
    out.rows.push_back(cells);
  }
  if (accuracy) {
    out.rows.push_back({fmt::format("RMSE of {}", accuracy->count), fixed(accuracy->rmse_east, 3),
                        fixed(accuracy->rmse_north, 3), fixed(accuracy->rmse_height, 3), "", ""});
    out.rows.back().resize(out.header.size());
  }
  return out;
}

TableBlock bars_table(const Material& source) {
  TableBlock out{"Scale bars",
                 "Distances in space. A redundancy near 0: nothing else knows the scale as well, and an error "
                 "of the bar would not show.",
                 {"bar", "from", "to", "measured m", "sigma m", "adjusted m", "difference m", "redundancy"},
                 {}};
  for (const BarResult& b : source.summary.scale_bars)
    out.rows.push_back({b.id, b.a, b.b, fixed(b.length, 4), fixed(b.sigma, 4), fixed(b.adjusted, 4),
                        signed_fixed(b.adjusted - b.length, 4), fixed(b.redundancy, 2)});
  return out;
}

/// Points that became check or control, or left, after an adjustment had shown what they do to it.
TableBlock changes_table(const Material& source) {
  TableBlock out{"Changes of control",
                 "Each with what the checks had said before it; what they say now stands above.",
                 {"point", "change", "when", "before"},
                 {}};
  for (const Material::Change& c : source.changes) out.rows.push_back({c.point, c.change, c.when, c.before});
  if (out.rows.empty()) out.note = "None since the first adjustment.";
  return out;
}

TableBlock photos_left_out_table(const Material& source) {
  TableBlock out{"Photos left out", "", {"photo", "reason"}, {}};
  for (const Material::Photo& p : source.photos)
    if (!p.left_out.empty()) out.rows.push_back({p.image, p.left_out});
  for (std::size_t i = 0; i < source.named.images.size(); ++i)
    if (!source.named.block.stations[i].oriented) out.rows.push_back({source.named.images[i], "could not be oriented"});
  if (out.rows.empty()) out.note = "None.";
  return out;
}

TableBlock groups_table(const Material& source) {
  TableBlock out{"Observations",
                 "Counted as scalars. sigma0 within its interval: residuals are as large as the sigmas say; "
                 "below it the sigmas are "
                 "too large, above it too small, or something is wrong.",
                 {"group", "n", "redundancy", "sigma0", "95 % interval", "sigmas times"},
                 {},
                 true};
  const auto interval = [](const Interval& i) {
    return i ? fmt::format("{:.3f} to {:.3f}", i->first, i->second) : std::string("-");
  };
  const AdjustmentSummary& all = source.summary;
  for (const GroupResult& g : all.groups)
    out.rows.push_back({word_of(g.name), std::to_string(g.n), fixed(g.redundancy, 1), fixed(g.sigma0, 3),
                        interval(g.interval), g.scale == 1.0 ? "given" : fixed(g.scale, 3)});
  out.rows.push_back({"all", std::to_string(all.observations), std::to_string(all.redundancy), fixed(all.sigma0, 3),
                      interval(all.sigma0_interval), ""});
  return out;
}

TableBlock calibration_table(const Material& source) {
  TableBlock out{"Calibration",
                 "Pixels for c, x0, y0 (from the photo's centre, y down); the rest without dimension.",
                 {"camera", "parameter", "before", "after", "sigma", "change over sigma"},
                 {}};
  for (const Calibration& c : source.summary.calibration)
    for (const CalibratedParameter& p : c.parameters) {
      const int decimals = std::abs(p.value) > 1 || p.name == "x0" || p.name == "y0" ? 3 : 7;
      out.rows.push_back({c.camera, p.name, fmt::format("{:.{}f}", p.start, decimals),
                          fmt::format("{:.{}f}", p.value, decimals), fmt::format("{:.{}f}", p.sigma, decimals),
                          fmt::format("{:+.1f}", (p.value - p.start) / p.sigma)});
    }
  if (out.rows.empty()) out.note = "All parameters were held.";
  return out;
}

TableBlock sorties_table(const Material& source) {
  TableBlock out{"Sorties",
                 "The offset is what the positions written on board have in common: observed - adjusted, with "
                 "its standard deviation; rms is what is left of each then.",
                 {"sortie", "photos", "oriented", "screened out", "offset E m", "N m", "H m", "sigma E m", "N m", "H m",
                  "rms E m", "N m", "H m"},
                 {}};
  for (const SortieResult& s : source.summary.sorties) {
    int photos = 0, oriented = 0, screened = 0;
    for (const Material::Photo& p : source.photos)
      photos += p.sortie == s.sortie, screened += p.sortie == s.sortie && !p.left_out.empty();
    for (const adjust::Station& station : source.named.block.stations)
      oriented += station.oriented && source.named.block.sorties[station.sortie].name == s.sortie;
    std::vector<std::string> row = {s.sortie, std::to_string(photos), std::to_string(oriented),
                                    std::to_string(screened)};
    for (const double v : s.offset) row.push_back(signed_fixed(v, 3));
    for (const Eigen::Vector3d* part : {&s.sigma_offset, &s.rms})
      for (const double v : *part) row.push_back(fixed(v, 3));
    out.rows.push_back(row);
  }
  return out;
}

/// Boresights and drifts; empty where no sortie has any.
TableBlock on_board_table(const Material& source) {
  TableBlock out{"Attitudes and drifts on board",
                 "The boresight turns the adjusted attitude into the observed one, about the camera's axes.",
                 {"sortie", "what", "x or E", "y or N", "z or H", "sigma", "", ""},
                 {}};
  const auto add = [&](const std::string& sortie, const char* words, const Eigen::Vector3d& value,
                       const Eigen::Vector3d& sigma, int decimals) {
    if (!value.allFinite()) return;
    std::vector<std::string> row = {sortie, words};
    for (const double v : value) row.push_back(signed_fixed(v, decimals));
    for (const double v : sigma) row.push_back(fixed(v, decimals));
    out.rows.push_back(row);
  };
  for (const SortieResult& s : source.summary.sorties) {
    add(s.sortie, "boresight, degrees", s.boresight_deg, s.sigma_boresight_deg, 4);
    add(s.sortie, "drift, m/s", s.drift, s.sigma_drift, 5);
  }
  return out;
}

TableBlock left_out_table(const Material& source) {
  TableBlock out{"Control left out, one at a time",
                 "Each point as an adjustment without its coordinates and sightings would give it. This is no "
                 "check accuracy: the point was there when the block was made.",
                 {"point", "dE m", "dN m", "dH m", "predicted E m", "N m", "H m"},
                 {},
                 source.summary.left_out.has_value()};
  for (const PointResult& p : source.points) {
    if (p.role != adjust::Role::control) continue;
    out.rows.push_back({p.id});
    for (const double v : p.left_out_error) out.rows.back().push_back(signed_fixed(v, 3));
    for (const double v : p.left_out_sigma) out.rows.back().push_back(fixed(v, 3));
    const bool known = std::isfinite(p.left_out_error.x()) || std::isfinite(p.left_out_error.z());
    if (!known) out.rows.back()[1] = "not available";
  }
  if (const auto& l = source.summary.left_out)
    out.rows.push_back({fmt::format("RMSE of {}", l->count), fixed(l->rmse_east, 3), fixed(l->rmse_north, 3),
                        fixed(l->rmse_height, 3), "", "", ""});
  return out;
}

TableBlock reliability_table(const Material& source) {
  TableBlock out{"What an error of control would do",
                 "A coordinate's error below the detectable one would, as a rule, not be found (alpha 0.001, "
                 "power 0.80), and would move the point by up to the effect.",
                 {"point", "component", "redundancy", "w", "detectable m", "effect m", ""},
                 {}};
  constexpr double hardly = 0.1;  // redundancy below which nine tenths of an error stay in the result
  constexpr const char* axes[] = {"east", "north", "height"};
  for (const PointResult& p : source.points)
    for (std::size_t a = 0; a < 3; ++a) {
      const adjust::Tested& t = p.tests[a];
      if (!std::isfinite(t.redundancy)) continue;
      out.rows.push_back({p.id, axes[a], fmt::format("{:.2f}", t.redundancy), fixed(t.w, 1), fixed(t.detectable, 3),
                          fixed(t.effect, 3), t.redundancy < hardly ? "hardly controlled" : ""});
    }
  return out;
}

TableBlock suspects_table(const Material& source) {
  TableBlock out{"Suspects",
                 "Tested observations with |w| above 3.29: one in a thousand is there by chance. `item` is the "
                 "name for adjust --without.",
                 {"item", "component", "wrong by", "w"},
                 {}};
  constexpr std::size_t most = 40;  // the rest stands in reliability.csv
  for (const NamedSuspect& s : source.summary.suspects) {
    if (out.rows.size() == most) break;
    out.rows.push_back(
        {s.item, word_of(s.component), signed_fixed(s.size, 3) + " " + adjust::unit_of(s.kind), fixed(s.w, 1)});
  }
  if (out.rows.empty()) out.note = "None.";
  return out;
}

TableBlock set_aside_table(const Material& source) {
  TableBlock out{"Left out of this adjustment", "", {"item", "by", "component", "wrong by", "w"}, {}};
  for (const SetAside& a : source.summary.set_aside)
    out.rows.push_back(
        {a.item, word_of(a.by), a.component ? word_of(*a.component) : "", signed_fixed(a.size, 3), fixed(a.w, 1)});
  if (out.rows.empty()) out.note = "Nothing.";
  return out;
}

TableBlock weakest_table(const Material& source) {
  TableBlock out{"Weakest photos",
                 "By the predicted standard deviation of their place.",
                 {"photo", "sigma plan m", "sigma height m", "sigma angle deg", "ties"},
                 {}};
  const adjust::Block& block = source.named.block;
  std::vector<int> ties(block.stations.size(), 0);
  for (const adjust::GroundPoint& p : block.points)
    for (const adjust::Ray& r : p.rays) ties[r.station] += p.X.allFinite() && adjust::takes_part(block, r);
  std::vector<std::size_t> order;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (block.stations[i].oriented && block.stations[i].covariance.allFinite()) order.push_back(i);
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    return block.stations[a].covariance.trace() > block.stations[b].covariance.trace();
  });
  order.resize(std::min<std::size_t>(order.size(), 8));
  for (const std::size_t i : order) {
    const Eigen::Matrix3d& Q = block.stations[i].covariance;
    out.rows.push_back({source.named.images[i], fmt::format("{:.4f}", std::sqrt(0.5 * (Q(0, 0) + Q(1, 1)))),
                        fmt::format("{:.4f}", std::sqrt(Q(2, 2))),
                        fmt::format("{:.5f}", block.stations[i].sigma_angle * deg_per_rad), std::to_string(ties[i])});
  }
  return out;
}

TableBlock rows_table(const char* title, const char* note, const char* first, const char* second,
                      const std::vector<std::pair<std::string, std::string>>& rows) {
  TableBlock out{title, note, {first, second}, {}};
  for (const auto& [name, value] : rows) out.rows.push_back({name, value});
  return out;
}

TableBlock compared_figures(const AdjustmentSummary& ours, const AdjustmentSummary& theirs, const std::string& name) {
  TableBlock out{"This adjustment and '" + name + "'", "", {"", "this", name, "difference"}, {}};
  const auto row = [&](const std::string& words, double a, double b, int decimals) {
    if (std::isfinite(a) || std::isfinite(b))
      out.rows.push_back({words, fixed(a, decimals), fixed(b, decimals), signed_fixed(a - b, decimals)});
  };
  row("photos", ours.photos, theirs.photos, 0), row("tie points", ours.tie_points, theirs.tie_points, 0);
  row("sigma0", ours.sigma0, theirs.sigma0, 4);
  row("reprojection rms, px", ours.reprojection_rms_px, theirs.reprojection_rms_px, 4);
  const auto accuracies = [&](const char* words, const std::optional<Accuracy>& a, const std::optional<Accuracy>& b) {
    const Accuracy x = a.value_or(Accuracy()), y = b.value_or(Accuracy());
    row(fmt::format("{}: RMSE east, mm", words), 1000 * x.rmse_east, 1000 * y.rmse_east, 1);
    row(fmt::format("{}: RMSE north, mm", words), 1000 * x.rmse_north, 1000 * y.rmse_north, 1);
    row(fmt::format("{}: RMSE height, mm", words), 1000 * x.rmse_height, 1000 * y.rmse_height, 1);
  };
  accuracies("checks", ours.check, theirs.check), accuracies("control", ours.control, theirs.control);
  accuracies("control left out", ours.left_out, theirs.left_out);
  return out;
}

TableBlock compared_cameras(const AdjustmentSummary& ours, const AdjustmentSummary& theirs, const std::string& name) {
  TableBlock out{"Cameras", "", {"camera, parameter", "this", name, "difference over sigma"}, {}};
  for (const Calibration& c : ours.calibration)
    for (const Calibration& d : theirs.calibration)
      for (const CalibratedParameter& p : c.parameters)
        for (const CalibratedParameter& q : d.parameters)
          if (c.camera == d.camera && p.name == q.name)
            out.rows.push_back({c.camera + ", " + p.name, fixed(p.value, 6), fixed(q.value, 6),
                                fmt::format("{:+.2f}", (p.value - q.value) / p.sigma)});
  return out;
}

TableBlock compared_stations(const Material& source, const KeptAdjustment& other) {
  TableBlock out{
      "Stations", "How far they stand from where they stand there.", {"", "east mm", "north mm", "height mm"}, {}};
  std::map<std::string, Eigen::Vector3d> there;
  for (std::size_t i = 0; i < other.images.size(); ++i) there[other.images[i]] = other.places[i];
  Eigen::Vector3d squares = Eigen::Vector3d::Zero(), most = squares;
  int n = 0;
  for (std::size_t i = 0; i < source.named.images.size(); ++i) {
    const adjust::Station& station = source.named.block.stations[i];
    const auto found = there.find(source.named.images[i]);
    if (!station.oriented || found == there.end()) continue;
    const Eigen::Vector3d d =
        source.crs.metric_from(source.frame.crs_from_local(station.C)) - source.crs.metric_from(found->second);
    squares += d.cwiseAbs2(), most = most.cwiseMax(d.cwiseAbs()), ++n;
  }
  const auto mm = [](const std::string& words, const Eigen::Vector3d& v) -> std::vector<std::string> {
    return {words, fmt::format("{:.1f}", 1000 * v.x()), fmt::format("{:.1f}", 1000 * v.y()),
            fmt::format("{:.1f}", 1000 * v.z())};
  };
  if (n > 0) out.rows = {mm(fmt::format("rms of {}", n), (squares / n).cwiseSqrt()), mm("largest", most)};
  return out;
}

}  // namespace

std::vector<TableBlock> comparison_tables(const Material& source) {
  if (!source.other) return {};
  return {compared_figures(source.summary, source.other->summary, source.compared_with),
          compared_cameras(source.summary, source.other->summary, source.compared_with),
          compared_stations(source, *source.other)};
}

std::vector<TableBlock> accuracy_tables(const Material& source) {
  std::vector<TableBlock> out = {
      points_table(source, adjust::Role::check, "Checks",
                   "They took no part. Predicted: standard deviation of the error, the survey's own included.",
                   source.summary.check),
      points_table(source, adjust::Role::control, "Control", "Residuals of points that took part.",
                   source.summary.control),
      left_out_table(source),
      reliability_table(source),
      suspects_table(source),
      set_aside_table(source)};
  if (!source.summary.scale_bars.empty()) out.push_back(bars_table(source));
  return out;
}

std::vector<TableBlock> camera_tables(const Material& source) { return {calibration_table(source)}; }

std::vector<TableBlock> detail_tables(const Material& source) {
  std::vector<TableBlock> out = {groups_table(source), sorties_table(source)};
  if (auto on_board = on_board_table(source); !on_board.rows.empty()) out.push_back(std::move(on_board));
  for (auto* table : {weakest_table, changes_table, photos_left_out_table}) out.push_back(table(source));
  if (!source.mosaic.empty())
    out.push_back(rows_table("Mosaic", "Made of this adjustment; places against surveyed points that show as targets.",
                             "figure", "value", source.mosaic));
  out.push_back(rows_table("Settings", "What takes part, and with what sigmas where a file gives none.", "setting",
                           "value", source.settings));
  out.push_back(rows_table("Inputs", "Content hashes (xxHash, 128 bits) of the files that the adjustment rests on.",
                           "file", "hash", source.inputs));
  out.push_back(
      rows_table("Times", "Of each stage when it was last made, on this machine.", "stage", "seconds", source.times));
  return out;
}

}  // namespace mesograph::report
