#pragma once

#include <mesograph/adjust/block.hpp>
#include <mesograph/control/control_file.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

/// Tests the control that the survey holds against its photos: settings may have changed since it was taken. Throws
/// Error as control() does where it cannot be right; not where it was taken as it is, in the same system.
void check_control(const survey::Survey& survey);

/// How decisions on control begin to say what the checks showed before them.
inline constexpr const char* rmse_before = "check RMSE before: ";

struct ControlOptions {
  std::filesystem::path file;                       ///< empty: only changes of roles and sigmas
  control::ControlFileOptions reading;              ///< columns and units of the file
  std::string crs;                                  ///< of the file; empty: the survey's
  double ground_to_grid = 1.0;                      ///< factor on the file's plan, about the point `about`
  Eigen::Vector2d about = Eigen::Vector2d::Zero();  ///< east, north, in the file's units
  std::filesystem::path onto;                       ///< points known in the survey's CRS: the file is fitted on them
  int fit = 4;                                      ///< parameters of that fit: 4 or 7
  std::filesystem::path from;                       ///< an adjusted survey whose stable natural points become control
  std::vector<std::pair<adjust::Role, std::string>> roles;  ///< role, point id or pattern
  std::vector<std::string> sigmas;                          ///< "PATTERN=H" or "PATTERN=H:V", m
  std::vector<std::string> remove;                          ///< ids or patterns, of points and scale bars
  std::filesystem::path scale_bars;                         ///< file of scale bars to add; empty: none
  std::optional<int> hold_out;                              ///< so many control points, well spread, become checks
  bool as_is = false;                                       ///< takes a file that the photos contradict
  bool dry_run = false;                                     ///< reads and counts, writes nothing
};
/// A control or check point as the survey holds it.
struct ListedPoint {
  std::string id;
  double east = nan, north = nan, height = nan;
  adjust::Role role = adjust::Role::control;
  double sigma_h = nan, sigma_v = nan, sigma_e = nan, sigma_n = nan;  ///< m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("east", s.east), visit("north", s.north), visit("height", s.height);
    visit("role", s.role), visit("sigma_h", s.sigma_h), visit("sigma_v", s.sigma_v), visit("sigma_e", s.sigma_e);
    visit("sigma_n", s.sigma_n);
  }
};
struct ListedBar {
  std::string id, a, b;
  double length = nan, sigma = nan;  ///< m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("a", s.a), visit("b", s.b), visit("length", s.length), visit("sigma", s.sigma);
  }
};
/// What the fit of a site's own grid came to.
struct SiteFit {
  struct Residual {
    std::string id;
    double east = nan, north = nan, height = nan;  ///< m

    template <typename Self, typename Visit>
    static void fields(Self& s, Visit&& visit) {
      visit("id", s.id), visit("east", s.east), visit("north", s.north), visit("height", s.height);
    }
  };
  int parameters = 0;
  double factor = nan, turn_deg = nan, rms_plan = nan, rms_height = nan;  ///< m
  std::vector<Residual> residuals;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("parameters", s.parameters), visit("factor", s.factor), visit("turn_deg", s.turn_deg);
    visit("rms_plan", s.rms_plan), visit("rms_height", s.rms_height), visit("residuals", s.residuals);
  }
};
/// What was carried from another survey.
struct CarriedSummary {
  std::string from;
  int points = 0, matched = 0, stable = 0;
  double spread_plan = nan, spread_height = nan;  ///< m an axis, between stable points of the two

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("from", s.from), visit("points", s.points), visit("matched", s.matched), visit("stable", s.stable);
    visit("spread_plan", s.spread_plan), visit("spread_height", s.spread_height);
  }
};
/// The survey's control after a call.
struct ControlTaken {
  int points = 0, control = 0, check = 0, off = 0;
  std::vector<ListedPoint> list;
  std::vector<ListedBar> scale_bars;
  std::optional<SiteFit> site_fit;
  std::optional<CarriedSummary> carried;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("control", s.control), visit("check", s.check), visit("off", s.off);
    visit("list", s.list), visit("scale_bars", s.scale_bars), visit("site_fit", s.site_fit),
        visit("carried", s.carried);
  }
};

/// Adds control points to inputs/control.csv and scale bars to inputs/scalebars.csv, transformed to the survey's CRS;
/// the same id is replaced and said. Throws Error where the file is wrong as a whole: it cannot be read, or the photos'
/// positions say that it lies elsewhere.
/// Exact: coordinates to 5e-6 m; between datums as the operation that is named. Cost: no photo is read.
Outcome<ControlTaken> control(survey::Survey& survey, const ControlOptions& options, Progress& progress);

}  // namespace mesograph::stages
