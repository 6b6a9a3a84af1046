#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/stages/depth_sheets.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;

namespace {

constexpr const char* sheet_version = "sheet 1";
constexpr std::size_t most_of_sheets = 600'000'000;  // bytes of those that are held

/// As it lies in the store: sigmas as their logarithm in steps of a sixteenth of a factor of two, a twentieth of them.
struct StoredSheet {
  photo::Raster<float> depth;
  photo::Raster<std::uint8_t> sigma;
  Eigen::Vector3d low = Eigen::Vector3d::Constant(nan), high = Eigen::Vector3d::Constant(nan);

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("depth", s.depth), visit("sigma", s.sigma), visit("low", s.low), visit("high", s.high);
  }
};
constexpr double least_sigma = 1e-5, steps_a_factor_of_two = 12;  // m; up to 25 m

std::uint8_t coded(float sigma) {
  return static_cast<std::uint8_t>(
      std::clamp(std::lround(steps_a_factor_of_two * std::log2(sigma / least_sigma)), 0L, 255L));
}
float decoded(std::uint8_t code) {
  return static_cast<float>(least_sigma * std::exp2(static_cast<double>(code) / steps_a_factor_of_two));
}

}  // namespace

DepthSheets::DepthSheets(const DepthJob& job)
    : job_(job),
      stations_(job.plan.wanted()),
      prints_(job.prints.size()),
      boxes_(job.prints.size()),
      shelf_(
          [this](int station) {
            const StoredSheet stored = read_packed<StoredSheet>(item(station), sheet_version);
            photo::Raster<float> sigma(stored.depth.width, stored.depth.height);
            std::transform(stored.sigma.data.begin(), stored.sigma.data.end(), sigma.data.begin(), decoded);
            return std::make_shared<const mesh::Sheet>(job_.plan.pinhole(station), stored.depth, std::move(sigma));
          },
          [](const mesh::Sheet& s) { return s.bytes(); }, most_of_sheets) {
  const auto witnesses = job.plan.witnesses();
  const dense::CloudRequest& r = job.plan.request;
  for (const int s : stations_) {
    std::string maps = job.prints[static_cast<std::size_t>(s)];
    for (const int other : witnesses[static_cast<std::size_t>(s)])
      maps += " " + job.prints[static_cast<std::size_t>(other)];
    prints_[static_cast<std::size_t>(s)] = survey::fingerprint(
        {sheet_version, maps, fmt::format("{} {} {}", r.min_views, r.max_sigma, r.max_sigma_parallax)});
  }
}

fs::path DepthSheets::item(int station) const {
  return job_.survey.store.item("sheets", job_.kept[static_cast<std::size_t>(station)]->image,
                                prints_[static_cast<std::size_t>(station)]);
}

std::string DepthSheets::print() const {
  std::string all;
  for (const int s : stations_) all += prints_[static_cast<std::size_t>(s)];
  return hash_bytes(all);
}

void DepthSheets::make_one(int station, const std::set<int>& witnesses) const {
  const dense::MappedView reference = load_depth(job_, station);
  const LoadedMaps others = load_depths(job_, witnesses);
  dense::Confirmed confirmed = dense::confirm(reference, others.list, job_.fuse_options());
  StoredSheet out{std::move(confirmed.depth),
                  photo::Raster<std::uint8_t>(confirmed.sigma.width, confirmed.sigma.height)};
  Eigen::AlignedBox3d box;
  for (int row = 0; row < out.depth.height; ++row)
    for (int col = 0; col < out.depth.width; ++col)
      if (const float depth = out.depth.at(col, row); std::isfinite(depth)) {
        out.sigma.at(col, row) = coded(confirmed.sigma.at(col, row));
        box.extend(reference.pinhole.C + depth * reference.pinhole.direction(col + 0.5, row + 0.5));
      }
  if (!box.isEmpty()) out.low = box.min(), out.high = box.max();
  write_packed(item(station), sheet_version, out);
}

void DepthSheets::make(Progress& progress) {
  const auto witnesses = job_.plan.witnesses();
  std::vector<int> todo;
  for (const int s : stations_)
    if (!fs::exists(item(s))) todo.push_back(s);
  if (!todo.empty()) {
    const std::vector<int> needed = job_.plan.with_witnesses(todo);
    const auto missing = static_cast<std::size_t>(std::count_if(needed.begin(), needed.end(), [&](int s) {
      return !job_.plan.partners[static_cast<std::size_t>(s)].empty() && !fs::exists(job_.item(s));
    }));
    progress.start("confirming depth", todo.size() + missing);
    make_depth_maps(job_, needed, progress);
    parallel_for(todo.size(), [&](std::size_t i) {
      progress.check();
      make_one(todo[i], witnesses[static_cast<std::size_t>(todo[i])]);
      progress.advance();
    });
  }
  std::set<fs::path> items;
  for (const int s : stations_) items.insert(item(s));
  job_.survey.store.sweep("sheets", items);
  for (const int s : stations_) {
    const StoredSheet stored = read_packed<StoredSheet>(item(s), sheet_version);
    if (stored.low.allFinite()) boxes_[static_cast<std::size_t>(s)] = {stored.low, stored.high};
  }
}

}  // namespace mesograph::stages
