#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/median.hpp>
#include <mesograph/photo/screening.hpp>

namespace mesograph::photo {

namespace {

Thumbnail thumbnail_of(const Grey& g) {
  constexpr int side = 16;  // Thumbnail
  Thumbnail out{};
  for (int r = 0; r < side; ++r)
    for (int c = 0; c < side; ++c) {
      const int c0 = c * g.width / side, c1 = std::max(c0 + 1, (c + 1) * g.width / side);
      const int r0 = r * g.height / side, r1 = std::max(r0 + 1, (r + 1) * g.height / side);
      double sum = 0;
      for (int row = r0; row < std::min(r1, g.height); ++row)
        for (int col = c0; col < std::min(c1, g.width); ++col) sum += g.at(col, row);
      out[static_cast<std::size_t>(r * side + c)] =
          static_cast<std::uint8_t>(std::clamp(std::lround(sum / ((c1 - c0) * (r1 - r0))), 0L, 255L));
    }
  return out;
}

}  // namespace

Quality assess(const Grey& g) {
  double sum = 0, squares = 0, laplacian = 0;
  std::size_t over = 0, under = 0, inner = 0;
  for (int row = 0; row < g.height; ++row)
    for (int col = 0; col < g.width; ++col) {
      const double value = g.at(col, row);
      sum += value;
      squares += value * value;
      over += value >= 250;
      under += value <= 5;
      if (row == 0 || col == 0 || row + 1 == g.height || col + 1 == g.width) continue;
      const double l = 4 * value - g.at(col - 1, row) - g.at(col + 1, row) - g.at(col, row - 1) - g.at(col, row + 1);
      laplacian += l * l;
      ++inner;
    }
  const double n = static_cast<double>(g.data.size());
  // Over the contrast: the same ground in haze is as sharp as in sun.
  const double variance = std::max(1.0, squares / n - (sum / n) * (sum / n));
  // Mean square of the Laplacian: blur takes the highest frequencies first.
  return {laplacian / static_cast<double>(std::max<std::size_t>(1, inner)) / variance, static_cast<double>(over) / n,
          static_cast<double>(under) / n, thumbnail_of(g)};
}

double likeness(const Thumbnail& a, const Thumbnail& b) {
  double sa = 0, sb = 0, aa = 0, bb = 0, ab = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    sa += a[i], sb += b[i];
    aa += a[i] * a[i], bb += b[i] * b[i], ab += a[i] * b[i];
  }
  const auto n = static_cast<double>(a.size());
  const double va = aa - sa * sa / n, vb = bb - sb * sb / n;
  // Two even pictures are alike, whatever their level: exposure changes it.
  if (va <= 0 && vb <= 0) return 1;
  return (ab - sa * sb / n) / std::sqrt(std::max(1e-9, va * vb));
}

namespace {

/// Height below which photos were taken during take-off or landing; -infinity where there are none.
double take_off_height(std::vector<double> heights, const ScreeningOptions& options) {
  std::sort(heights.begin(), heights.end());
  const std::size_t most = static_cast<std::size_t>(options.most_take_off * static_cast<double>(heights.size()));
  double bound = -std::numeric_limits<double>::infinity();
  // The last gap among the lowest few: a climb shows as photos apart from those that were flown.
  for (std::size_t i = 1; i <= most && i < heights.size(); ++i)
    if (heights[i] - heights[i - 1] > options.take_off_gap) bound = heights[i];
  return bound;
}

/// Sharpness that a photo should have: the median of the photos before it or that of the photos after it, whichever is
/// less. A blurred photo falls below both; the first one over a smooth field only below those before it.
double usual_sharpness(const std::vector<ScreeningInput>& sortie, std::size_t i, int neighbours) {
  const auto middle = [&](std::size_t first, std::size_t end) {
    std::vector<double> side;
    for (std::size_t k = first; k < end; ++k) side.push_back(sortie[k].quality.sharpness);
    return median(side);
  };
  const auto reach = static_cast<std::size_t>(neighbours);
  const std::size_t first = i > reach ? i - reach : 0, end = std::min(sortie.size(), i + 1 + reach);
  constexpr std::size_t enough = 3;  // photos on a side
  // At the ends one side is missing, and the other reaches twice as far.
  if (i - first < enough) return middle(i + 1, std::min(sortie.size(), i + 1 + 2 * reach));
  if (end - i - 1 < enough) return middle(i > 2 * reach ? i - 2 * reach : 0, i);
  return std::min(middle(first, i), middle(i + 1, end));
}

double brightness(const Thumbnail& t) {
  double sum = 0;
  for (const std::uint8_t v : t) sum += v;
  return sum / static_cast<double>(t.size());
}

/// Median brightness of the photos around one, itself left out: the same ground under the same sky, mostly.
double usual_brightness(const std::vector<ScreeningInput>& sortie, std::size_t i, int neighbours) {
  const auto reach = static_cast<std::size_t>(neighbours);
  std::vector<double> around;
  for (std::size_t k = i > reach ? i - reach : 0; k < std::min(sortie.size(), i + 1 + reach); ++k)
    if (k != i) around.push_back(brightness(sortie[k].quality.thumbnail));
  return around.size() < 3 ? nan : median(std::move(around));
}

double usual_step(const std::vector<ScreeningInput>& sortie) {
  std::vector<double> steps;
  for (std::size_t i = 1; i < sortie.size(); ++i)
    if (const double d = (sortie[i].at - sortie[i - 1].at).norm(); d >= 0) steps.push_back(d);
  return median(steps);
}

/// Size that most photos have; 0 where there is no odd one out.
PhotoSize usual_size(const std::vector<ScreeningInput>& sortie, double most_odd) {
  std::map<std::pair<int, int>, std::size_t> count;
  for (const auto& p : sortie) ++count[{p.width, p.height}];
  const auto top =
      std::max_element(count.begin(), count.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
  if (top == count.end() ||
      static_cast<double>(sortie.size() - top->second) > most_odd * static_cast<double>(sortie.size()))
    return {};
  return {top->first.first, top->first.second};
}

}  // namespace

std::vector<ScreenedOut> screen(const std::vector<ScreeningInput>& sortie, const ScreeningOptions& options) {
  std::vector<double> heights;
  for (const auto& photo : sortie)
    if (std::isfinite(photo.up)) heights.push_back(photo.up);
  const double flying_from = take_off_height(heights, options), step = usual_step(sortie);
  const PhotoSize usual = usual_size(sortie, options.most_odd_sizes);
  std::vector<ScreenedOut> out;
  const ScreeningInput* before = nullptr;  // the last photo that is kept
  for (std::size_t i = 0; i < sortie.size(); ++i) {
    const ScreeningInput& photo = sortie[i];
    const double relative = photo.quality.sharpness / usual_sharpness(sortie, i, options.neighbours);
    const double alike = before ? likeness(photo.quality.thumbnail, before->quality.thumbnail) : 0;
    const double moved = before ? (photo.at - before->at).norm() : nan;
    if (usual.width > 0 && (photo.width != usual.width || photo.height != usual.height))
      out.push_back({photo.image, {ScreeningReason::odd_size, "", photo.width * 1e-6 * photo.height}});
    else if (photo.quality.overexposed > options.most_overexposed ||
             (photo.quality.overexposed > options.some_overexposed &&
              brightness(photo.quality.thumbnail) >
                  options.most_brighter * usual_brightness(sortie, i, options.neighbours)))
      out.push_back({photo.image, {ScreeningReason::over_exposed, "", photo.quality.overexposed}});
    else if (photo.quality.underexposed > options.most_underexposed)
      out.push_back({photo.image, {ScreeningReason::under_exposed, "", photo.quality.underexposed}});
    else if (photo.up < flying_from)
      out.push_back({photo.image, {ScreeningReason::take_off, "", flying_from - photo.up}});
    else if (photo.nearest > options.isolated_steps * step && sortie.size() >= 5)
      out.push_back({photo.image, {ScreeningReason::transit, "", photo.nearest}});
    else if (relative < options.least_relative_sharpness && sortie.size() >= 3)
      out.push_back({photo.image, {ScreeningReason::blurred, "", relative}});
    else if (alike > options.near_duplicate && !(moved > options.near_duplicate_steps * step))
      out.push_back({photo.image, {ScreeningReason::same_view, before->image, alike}});
    else
      before = &photo;
  }
  return out;
}

bool within_noise(const std::vector<Eigen::Vector2d>& places, double noise) {
  if (places.size() < 3) return false;
  std::vector<double> east, north, off;
  for (const Eigen::Vector2d& p : places) east.push_back(p.x()), north.push_back(p.y());
  const Eigen::Vector2d middle(median(east), median(north));
  for (const Eigen::Vector2d& p : places) off.push_back((p - middle).norm());
  // The distance of a normal error in the plane is below 1.18 sigma half of the time, below 2.5 sigma 19 times in 20.
  std::sort(off.begin(), off.end());
  // plan noise alone: its median is 1.18 sigma, 95 % lie within 2.45 (Rayleigh)
  return median(off) < 1.5 * noise && off[off.size() * 19 / 20] < 2.5 * noise;
}

std::string reason_of(const Screened& s) {
  switch (s.reason) {
    case ScreeningReason::unreadable:
      return fmt::format("unreadable ({})", s.about);
    case ScreeningReason::copy:
      return "a copy of " + s.about;
    case ScreeningReason::odd_size:
      return "another size than the rest of the sortie";
    case ScreeningReason::over_exposed:
      return "over-exposed";
    case ScreeningReason::under_exposed:
      return "under-exposed";
    case ScreeningReason::take_off:
      return "take-off or landing";
    case ScreeningReason::transit:
      return "transit: far from every other photo";
    case ScreeningReason::blurred:
      return "blurred";
    case ScreeningReason::same_view:
      return "the same view as " + s.about;
    case ScreeningReason::by_hand:
      break;
  }
  return "dropped by hand";
}

std::string screening_words(const Screened& s) {
  const std::string reason = reason_of(s);
  if (!std::isfinite(s.value)) return reason;
  switch (s.reason) {
    case ScreeningReason::blurred:
      return fmt::format("{}: {:.2f} of the sharpness around it", reason, s.value);
    case ScreeningReason::over_exposed:
      return fmt::format("{}: {:.0f} % of it is white", reason, 100 * s.value);
    case ScreeningReason::under_exposed:
      return fmt::format("{}: {:.0f} % of it is black", reason, 100 * s.value);
    case ScreeningReason::take_off:
      return fmt::format("{}: {:.0f} m below the others", reason, s.value);
    case ScreeningReason::transit:
      return fmt::format("{}: {:.0f} m", reason, s.value);
    case ScreeningReason::same_view:
      return fmt::format("{}: likeness {:.3f}", reason, s.value);
    case ScreeningReason::odd_size:
      return fmt::format("{}: {:.1f} megapixels", reason, s.value);
    default:
      return reason;
  }
}

}  // namespace mesograph::photo
