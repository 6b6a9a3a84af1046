#pragma once

#include <mesograph/mesh/distance_field.hpp>
#include <mesograph/stages/depth_maps.hpp>
#include <mesograph/stages/shelf.hpp>

namespace mesograph::stages {

/// Photos' surfaces as far as other photos confirm them, kept as items of the store.
/// Accuracy: that of dense::confirm. Cost: a look of each pixel into some ten maps; 5 bytes a pixel on the disk.
class DepthSheets {
 public:
  /// Of a job that knows what is asked of it.
  explicit DepthSheets(const DepthJob& job);

  /// Makes those that are missing, and the depth maps that they need.
  void make(Progress& progress);
  /// Photos that have one, ascending.
  const std::vector<int>& stations() const { return stations_; }
  /// Ground that it shows, local frame, m; empty: nothing is confirmed.
  const Eigen::AlignedBox3d& box(int station) const { return boxes_[static_cast<std::size_t>(station)]; }
  std::shared_ptr<const mesh::Sheet> operator()(int station) { return shelf_(station); }
  void tidy() { shelf_.tidy(); }
  /// What all of them follow from.
  std::string print() const;

 private:
  const DepthJob& job_;
  std::vector<int> stations_;
  std::vector<std::string> prints_;
  std::vector<Eigen::AlignedBox3d> boxes_;
  Shelf<mesh::Sheet> shelf_;

  std::filesystem::path item(int station) const;
  void make_one(int station, const std::set<int>& witnesses) const;
};

}  // namespace mesograph::stages
