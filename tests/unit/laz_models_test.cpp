#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/laz_points.hpp>
#include <mesograph/cloud/tiles.hpp>

using namespace mesograph;

// What compressed points are foretold from: times, steps, levels, channels.

namespace {

/// Times through the coder and back; how many bytes they took.
std::size_t there_and_back(const std::vector<std::int64_t>& times, bool unchanged) {
  cloud::RangeEncoder encoder;
  cloud::LazTimeCoder<cloud::RangeEncoder> write(times[0], unchanged);
  for (std::size_t i = 1; i < times.size(); ++i) CHECK(write.code(encoder, times[i]) == times[i]);
  const std::string bytes = encoder.finish();
  cloud::RangeDecoder decoder(bytes);
  cloud::LazTimeCoder<cloud::RangeDecoder> read(times[0], unchanged);
  for (std::size_t i = 1; i < times.size(); ++i) REQUIRE(read.code(decoder, 0) == times[i]);
  CHECK(!decoder.overrun());
  return bytes.size();
}

}  // namespace

TEST_CASE("Times come back, and an even tick costs next to nothing whatever its step") {
  Random random(4);
  constexpr std::int64_t start = 4'700'000'000'000'000'000;
  for (const bool unchanged : {false, true}) {
    for (const std::int64_t step : {1LL, 12345LL, -700'000LL}) {
      std::vector<std::int64_t> even = {start};
      for (int i = 1; i < 5000; ++i) even.push_back(even.back() + step);
      // Of 64 bits each: the law renews a model of 515 symbols rarely, so a chunk's first thousands cost a bit yet.
      CHECK(there_and_back(even, unchanged) < 5000 * 5 / 4 / 8);
    }
    // Three flights told by turns, a jump that 32 bits do not hold, and now and then a time that stays.
    std::vector<std::int64_t> mixed = {start};
    std::array<std::int64_t, 3> at = {start, start / 2, -start};
    for (int i = 0; i < 4000; ++i) {
      std::int64_t& t = at[static_cast<std::size_t>(random.uniform(0, 3))];
      t += unchanged && random.uniform(0, 1) < 0.3 ? 0 : 1 + static_cast<std::int64_t>(random.uniform(0, 9)) * 1000;
      if (random.uniform(0, 1) < 0.01) t += static_cast<std::int64_t>(random.uniform(-1e17, 1e17));
      if (t != mixed.back() || unchanged) mixed.push_back(t);
    }
    CHECK(there_and_back(mixed, unchanged) < 4 * mixed.size());  // of eight bytes each
  }
}

TEST_CASE("The running median lies amid the last values, and one far off does not move it") {
  Random random(5);
  cloud::RunningMedian median;
  for (int i = 0; i < 40; ++i) median.add(100 + static_cast<std::int32_t>(random.uniform(-5, 6)));
  CHECK(std::abs(median.values[2] - 100) <= 5);
  median.add(1'000'000), median.add(-1'000'000);
  CHECK(std::abs(median.values[2] - 100) <= 5);
  CHECK(std::is_sorted(median.values.begin(), median.values.end()));
  for (int i = 0; i < 12; ++i) median.add(-40);
  CHECK(median.values[2] == -40);
}

TEST_CASE("Returns have levels: how far from the last of their pulse, seven at most") {
  CHECK((cloud::level_of(1, 1) == 0 && cloud::level_of(3, 1) == 2 && cloud::level_of(1, 3) == 2));
  CHECK((cloud::level_of(15, 2) == 7 && cloud::level_of(2, 15) == 7));
}

TEST_CASE("Items of version 4 keep to their channel, those of version 3 follow the way they are written") {
  using Channels = cloud::LazChannels<int, int>;
  Channels mended(1, 0, true), old(1, 0, false);
  for (Channels* c : {&mended, &old}) {
    auto [own, last] = c->at(2, true);  // a channel that is new begins with the last value of the one before
    CHECK(last == 1);
    last = 7, own = 70;
  }
  CHECK(mended.at(0, true).second == 1);
  CHECK(old.at(0, true).second == 7);  // stays with where it comes from
  CHECK(mended.at(2, true).second == 7);
  CHECK(mended.at(2, false).second == 7);
  CHECK(mended.at(2, false).first == 70);
  CHECK(old.at(2, false).first == 0);  // a point that stays in its channel counts as one of channel 0
}

TEST_CASE("Records are brought from one file's steps to another's, to half a step") {
  cloud::LasHeader fine, coarse;
  for (cloud::LasHeader* h : {&fine, &coarse}) h->format = 6, h->record_length = 30;
  fine.scale.setConstant(0.0001), coarse.scale.setConstant(0.01);
  fine.offset = {431000, 6822000, 600}, coarse.offset = {430000, 6820000, 0};
  Random random(6);
  std::string records(30 * 50, '\7');
  for (std::size_t i = 0; i < 50; ++i)
    for (std::size_t a = 0; a < 3; ++a)
      cloud::put_at(records, 30 * i + 4 * a, static_cast<std::int32_t>(random.uniform(-2e6, 2e6)));
  const cloud::LasPoints before{&fine, records};
  cloud::LasPoints after{&coarse, records};
  cloud::bring_to(fine, coarse, after.bytes);
  for (std::size_t i = 0; i < 50; ++i) {
    CHECK((after.at(i) - before.at(i)).cwiseAbs().maxCoeff() < 0.00501);
    CHECK(after.bytes.substr(30 * i + 12, 18) == records.substr(30 * i + 12, 18));
  }
  // The same scale and whole steps between offsets: nothing is rounded, there and back.
  coarse.scale = fine.scale, coarse.offset = fine.offset + Eigen::Vector3d(-100, 0.0001, 7);
  cloud::LasPoints same{&coarse, records};
  cloud::bring_to(fine, coarse, same.bytes);
  CHECK((same.at(17) - before.at(17)).norm() < 1e-6);
  cloud::bring_to(coarse, fine, same.bytes);
  CHECK(same.bytes == records);
  coarse.offset.x() = 1e9;
  CHECK_THROWS_AS(cloud::bring_to(fine, coarse, same.bytes), cloud::OutOfRange);
}
