#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/sight/carry_over.hpp>
#include <mesograph/simulate/marks.hpp>

using namespace mesograph;
using Eigen::Matrix2d;
using Eigen::Vector2d;

namespace {

/// The same ground twice: the same seed paints the same texture; the second photo is turned, smaller and softer.
struct Pair {
  simulate::MarkPicture one, other;
  Matrix2d turned;  ///< pixels of the other by pixels of the one, without the change of size
};

Pair pair_of(simulate::Mark mark, int i, double size_px = 30) {
  const std::uint64_t seed = seed_from(word_of(mark) + std::to_string(i));
  simulate::MarkView view;
  view.mark = mark, view.size_px = size_px, view.turn = 0.1 * i;
  Random first(seed), second(seed);
  Pair out;
  out.one = simulate::draw_mark(view, first);
  const double turn = 0.9;
  view.turn += turn, view.size_px *= 0.9, view.blur_px = 0.7;
  out.other = simulate::draw_mark(view, second);
  // The mark turns from x to the axis that is up in the photo, whose y runs down.
  out.turned << std::cos(turn), std::sin(turn), -std::sin(turn), std::cos(turn);
  return out;
}

sight::Expected near(const Pair& pair, Vector2d off, double sigma) {
  return {pair.other.centre + off, sigma * sigma * Matrix2d::Identity(), pair.turned};
}

}  // namespace

TEST_CASE("Ground is found again in another photo to a few hundredths of a pixel, and says so", "[carry]") {
  double squares = 0, ratio = 0;
  Vector2d sum = Vector2d::Zero();
  int found = 0;
  for (int i = 0; i < 40; ++i) {
    const auto mark = i % 2 ? simulate::Mark::lane_lines : simulate::Mark::quadrant;
    const Pair pair = pair_of(mark, i);
    const auto c = sight::carry_over(pair.one.image, pair.one.centre, pair.other.image, near(pair, {3.3, -2.4}, 2.0));
    if (!c) continue;
    ++found;
    const Vector2d error = c->x - pair.other.centre;
    INFO(i << ": " << error.transpose());
    CHECK(error.norm() < 0.3);
    squares += error.squaredNorm() / 2, sum += error, ratio += error.squaredNorm() / c->covariance.trace();
  }
  INFO("rms " << std::sqrt(squares / found) << ", bias " << sum.norm() / found << ", error/sigma "
              << std::sqrt(ratio / found));
  CHECK(found >= 36);
  // Noise of 2 grey levels on both sides, edges of 100 over some twenty pixels: 0.02; the different blur and the
  // interpolation make 0.05 of it, largest seen among kinds of marks 0.06 where edges run both ways.
  CHECK(std::sqrt(squares / found) < 0.075);
  CHECK(sum.norm() / found < 0.02);
  // 72 scalars or more: the ratio of a right sigma lies within 0.17 of 1; one factor serves all kinds of ground, whose
  // ratios run from 0.4 (a cross) to 1.6 (an arrow).
  CHECK(std::sqrt(ratio / found) > 0.5);
  CHECK(std::sqrt(ratio / found) < 1.5);
}

TEST_CASE("Other ground, repeated ground and ground without contrast are not taken", "[carry]") {
  const Pair arrow = pair_of(simulate::Mark::arrow, 3), corner = pair_of(simulate::Mark::quadrant, 4);
  CHECK_FALSE(sight::carry_over(arrow.one.image, arrow.one.centre, corner.other.image, near(corner, {1, 1}, 3.0)));
  // A grating repeats every 5 pixels across its bars: within 4 it is one place, within 20 it is many.
  const Pair grating = pair_of(simulate::Mark::grating, 5, 40);
  CHECK_FALSE(
      sight::carry_over(grating.one.image, grating.one.centre, grating.other.image, near(grating, {1, 1}, 6.0)));
  const photo::Grey flat(80, 80, 1, 90.0f);
  CHECK_FALSE(sight::carry_over(flat, {40, 40}, flat, {{40, 40}, Matrix2d::Identity(), Matrix2d::Identity()}));
  // At the edge of the photo there is no whole patch.
  CHECK_FALSE(sight::carry_over(arrow.one.image, {4, 40}, arrow.other.image, near(arrow, {0, 0}, 1.0)));
}
