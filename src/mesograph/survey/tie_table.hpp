#pragma once

#include <Eigen/Core>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::survey {

/// Tie points of a survey. Ray.photo counts the photos that take part (PhotoTable::kept order).
struct TieTable {
  std::vector<std::string> images;
  struct Ray {
    int photo = 0;
    Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);  ///< pixels
    double sigma = nan;                                  ///< pixels; NaN: [tie] sigma_px

    template <typename Self, typename Visit>
    static void fields(Self& s, Visit&& visit) {
      visit("photo", s.photo), visit("x", s.x), visit("sigma", s.sigma);
    }
  };
  struct Point {
    std::string name;
    std::vector<Ray> rays;
    /// Taken into the block: of a well-spread selection, or imported. The rest is intersected afterwards (export
    /// points).
    bool chosen = true;

    template <typename Self, typename Visit>
    static void fields(Self& s, Visit&& visit) {
      visit("name", s.name), visit("rays", s.rays), visit("chosen", s.chosen);
    }
  };
  std::vector<Point> points;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("images", s.images), visit("points", s.points);
  }
};

/// The stored table. Exact. Throws Error where tie has not run. Cost: all of it in memory, some 40 bytes a ray.
TieTable load_ties(const Survey& survey);
void save_ties(const Survey& survey, const TieTable& ties);

}  // namespace mesograph::survey
