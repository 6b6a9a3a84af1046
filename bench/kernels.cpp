// Kernels that decide the running time, each beside a plain yardstick in the same run: quote the ratio, not the
// seconds.
#include <benchmark/benchmark.h>

#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/census.hpp>
#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/semi_global.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/nearest.hpp>

using namespace mesograph;

namespace {

std::vector<std::uint8_t> random_rows(std::size_t n, std::uint64_t seed) {
  Random random(seed);
  std::vector<std::uint8_t> rows(n * 128);
  for (std::uint8_t& v : rows) v = static_cast<std::uint8_t>(random.below(256));
  return rows;
}

photo::Grey random_image(int width, int height) {
  Random random(3);
  photo::Grey image(width, height);
  for (float& v : image.data) v = static_cast<float>(random.uniform(20, 230));
  return image;
}

void nearest_descriptors(benchmark::State& state) {
  const auto n = static_cast<std::size_t>(state.range(0));
  const auto a = random_rows(n, 1), b = random_rows(n, 2);
  std::vector<match::Nearest> of_a, of_b;
  for (auto _ : state) match::nearest_both_ways(a.data(), n, b.data(), n, of_a, of_b);
  state.counters["products/s"] = benchmark::Counter(static_cast<double>(n) * static_cast<double>(n) * 128,
                                                    benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(nearest_descriptors)->Arg(1000)->Arg(4000)->Unit(benchmark::kMillisecond);

/// The yardstick: one direction, one loop, as the compiler vectorises it.
void nearest_descriptors_plain(benchmark::State& state) {
  const auto n = static_cast<std::size_t>(state.range(0));
  const auto a = random_rows(n, 1), b = random_rows(n, 2);
  for (auto _ : state) {
    std::int32_t all = 0;
    for (std::size_t i = 0; i < n; ++i) {
      std::int32_t best = INT32_MAX;
      for (std::size_t j = 0; j < n; ++j) {
        std::int32_t d = 0;
        for (std::size_t k = 0; k < 128; ++k)
          d += (a[128 * i + k] - b[128 * j + k]) * (a[128 * i + k] - b[128 * j + k]);
        best = std::min(best, d);
      }
      all += best;
    }
    benchmark::DoNotOptimize(all);
  }
  state.counters["products/s"] = benchmark::Counter(static_cast<double>(n) * static_cast<double>(n) * 128,
                                                    benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(nearest_descriptors_plain)->Arg(1000)->Unit(benchmark::kMillisecond);

void detect_keypoints(benchmark::State& state) {
  const photo::Grey image = random_image(600, 450);
  for (auto _ : state) benchmark::DoNotOptimize(keypoint::detect(image));
}
BENCHMARK(detect_keypoints)->Unit(benchmark::kMillisecond);

void correlate(benchmark::State& state) {
  const photo::Grey a = random_image(450, 450), b = a;
  dense::Correlator correlator(a, 3, 1.2);
  photo::Raster<float> out;
  for (auto _ : state) correlator.correlate(b, true, out);
  state.counters["pixels/s"] =
      benchmark::Counter(static_cast<double>(a.data.size()), benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(correlate)->Unit(benchmark::kMillisecond);

void census(benchmark::State& state) {
  const photo::Grey a = random_image(70, 70), b = a;
  dense::Census against(a, 2);
  dense::Bytes out;
  for (auto _ : state) against.costs(b, true, out);
  state.counters["pixels/s"] =
      benchmark::Counter(static_cast<double>(a.data.size()), benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(census)->Unit(benchmark::kMicrosecond);

void semi_global_sums(benchmark::State& state) {
  Random random(4);
  dense::CostVolume volume;
  volume.area = {0, 0, 256, 256}, volume.step = 1;
  for (int row = 0; row < 256; row += 64)
    for (int col = 0; col < 256; col += 64) {
      dense::CostTile tile{{col, row, 64, 64}, {}, {}, std::vector<std::uint8_t>(64 * 64 * 64)};
      for (int label = 0; label < 64; ++label) tile.labels.push_back(label);
      for (std::uint8_t& c : tile.cost) c = static_cast<std::uint8_t>(random.below(128));
      volume.tiles.push_back(std::move(tile));
    }
  const photo::Grey image = random_image(256, 256);
  for (auto _ : state) benchmark::DoNotOptimize(dense::semi_global(volume, image));
  state.counters["costs/s"] = benchmark::Counter(256.0 * 256 * 64, benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(semi_global_sums)->Unit(benchmark::kMillisecond);

}  // namespace

BENCHMARK_MAIN();
