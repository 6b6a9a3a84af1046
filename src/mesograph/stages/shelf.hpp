#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <mutex>

namespace mesograph::stages {

/// Things that take long to make and much room, by number: made when first asked for, on any thread, and kept while
/// there is room. Cost: a lock a question.
template <typename Thing>
class Shelf {
 public:
  using Make = std::function<std::shared_ptr<const Thing>(int)>;
  using Bytes = std::function<std::size_t(const Thing&)>;
  /// `most`: bytes that all may take; more only between two calls of `tidy`.
  Shelf(Make make, Bytes bytes, std::size_t most) : make_(std::move(make)), bytes_(std::move(bytes)), most_(most) {}

  std::shared_ptr<const Thing> operator()(int number) {
    std::shared_ptr<Place> place;
    {
      const std::lock_guard lock(mutex_);
      std::shared_ptr<Place>& there = places_[number];
      if (!there) there = std::make_shared<Place>();
      there->used = ++clock_;
      place = there;
    }
    std::call_once(place->once, [&] { place->thing = make_(number); });
    return place->thing;
  }
  /// Gives up what was used longest ago until there is room; not while others ask.
  void tidy() {
    const std::lock_guard lock(mutex_);
    std::map<std::uint64_t, int> by_use;
    std::size_t bytes = 0;
    for (const auto& [number, place] : places_)
      by_use[place->used] = number, bytes += place->thing ? bytes_(*place->thing) : 0;
    for (const auto& [used, number] : by_use) {
      if (bytes <= most_) break;
      const auto place = places_.find(number);
      bytes -= place->second->thing ? bytes_(*place->second->thing) : 0;
      places_.erase(place);
    }
  }

 private:
  struct Place {
    std::once_flag once;
    std::shared_ptr<const Thing> thing;
    std::uint64_t used = 0;
  };
  Make make_;
  Bytes bytes_;
  std::size_t most_;
  std::mutex mutex_;
  std::uint64_t clock_ = 0;
  std::map<int, std::shared_ptr<Place>> places_;
};

}  // namespace mesograph::stages
