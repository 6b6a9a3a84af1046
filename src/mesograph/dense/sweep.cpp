#include <algorithm>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {

photo::Grey cut(const photo::Grey& image, const Tile& tile) {
  photo::Grey out(tile.width, tile.height);
  for (int r = 0; r < tile.height; ++r)
    std::copy_n(&image.data[static_cast<std::size_t>(tile.row + r) * image.width + tile.col], tile.width,
                &out.data[static_cast<std::size_t>(r) * tile.width]);
  return out;
}

/// Puts two rows in order, the smaller first.
MESOGRAPH_WIDE void order(std::uint8_t* a, std::uint8_t* b, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) {
    const std::uint8_t low = std::min(a[i], b[i]), high = std::max(a[i], b[i]);
    a[i] = low, b[i] = high;
  }
}

/// Mean of the better half of those that are there of ordered rows.
MESOGRAPH_WIDE void mean_of_first(const std::uint8_t* const* rows, int k, std::size_t n, std::uint16_t* sum,
                                  std::uint8_t* used, std::uint8_t* out) {
  for (std::size_t i = 0; i < n; ++i) sum[i] = 0, used[i] = 0;
  for (int r = 0; r < k; ++r) {
    // Row r counts where at least so many are there: the smallest m whose better half has r + 1.
    int least = r + 1;
    while (better_half_of(least) < r + 1) ++least;
    if (least > k) break;
    const std::uint8_t *value = rows[r], *last = rows[least - 1];
    for (std::size_t i = 0; i < n; ++i) {
      const bool there = last[i] != PlaneSweep::empty;
      sum[i] = static_cast<std::uint16_t>(sum[i] + (there ? value[i] : 0));
      used[i] = static_cast<std::uint8_t>(used[i] + (there ? 1 : 0));
    }
  }
  std::fill_n(out, n, PlaneSweep::empty);
  for (int m = 1; m <= better_half_of(k); ++m) {
    // (2 sum + m) / (2 m) by a product: exact for costs up to 127 of up to 16 that count, all cases tried.
    const auto inverse = static_cast<std::uint32_t>((65536 + 2 * m - 1) / (2 * m));
    for (std::size_t i = 0; i < n; ++i) {
      const auto doubled = static_cast<std::uint16_t>(2 * sum[i] + m);
      const auto mean = static_cast<std::uint8_t>((doubled * inverse) >> 16);
      out[i] = used[i] == m ? mean : out[i];
    }
  }
}

}  // namespace

void better_half(std::vector<Bytes>& costs, Bytes& out) {
  if (costs.size() == 1) {
    std::swap(costs[0], out);
    return;
  }
  const std::size_t n = costs[0].data.size();
  const int k = static_cast<int>(costs.size());
  if (out.data.size() != n) out = Bytes(costs[0].width, costs[0].height);
  constexpr std::size_t block = 1024;  // stays in the first cache
  std::vector<std::uint8_t*> rows(costs.size());
  std::uint16_t sum[block];
  std::uint8_t used[block];
  for (std::size_t first = 0; first < n; first += block) {
    const std::size_t size = std::min(block, n - first);
    for (int r = 0; r < k; ++r) rows[r] = &costs[static_cast<std::size_t>(r)].data[first];
    for (int round = 0; round < k; ++round)  // odd-even transposition
      for (int r = round % 2; r + 1 < k; r += 2) order(rows[r], rows[r + 1], size);
    mean_of_first(rows.data(), k, size, sum, used, &out.data[first]);
  }
}

PlaneSweep::PlaneSweep(const View& reference, const Views& partners, const Tile& tile, int least_difference)
    : partners_(partners),
      warp_(reference, tile),
      census_(cut(reference.image, tile), least_difference),
      of_partner_(partners.size()) {}

void PlaneSweep::costs(const InversePlane& plane, Bytes& out) {
  for (std::size_t k = 0; k < partners_.size(); ++k) {
    const bool whole = warp_.of_plane(*partners_[k], plane, warped_);
    census_.costs(warped_, whole, of_partner_[k]);
  }
  better_half(of_partner_, out);
}

SurfaceSweep::SurfaceSweep(const View& reference, const Views& partners, const Tile& tile, int window,
                           double least_contrast)
    : partners_(partners),
      warp_(reference, tile),
      image_(cut(reference.image, tile)),
      correlator_(image_, window, least_contrast) {}

void SurfaceSweep::correlate(const photo::Raster<float>& w, std::vector<photo::Raster<float>>& scores) {
  scores.resize(partners_.size());
  for (std::size_t k = 0; k < partners_.size(); ++k) {
    const bool whole = warp_.of_surface(*partners_[k], w, warped_);
    correlator_.correlate(warped_, whole, scores[k]);
  }
}

}  // namespace mesograph::dense
