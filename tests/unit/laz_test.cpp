#include <array>
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <fstream>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/copc.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/cloud/laz.hpp>
#include <mesograph/cloud/range_coder.hpp>
#include <set>

#include "folder.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

// Compressed clouds: what comes back, what it costs in bytes, and what damage does. Whether others read what is
// written: scripts/check-laz.

namespace {

/// Records of a format with everything in motion: returns, times of several sequences, flags, jumps from end to end.
std::string lively(int format, std::size_t extra, std::size_t n, std::uint64_t seed, int channels = 1) {
  Random random(seed);
  const auto whole = [&](double low, double high) {
    return static_cast<std::int64_t>(std::floor(random.uniform(low, high)));
  };
  const auto rarely = [&](double share) { return random.uniform(0, 1) < share; };
  std::string out;
  const auto put = [&](auto value) { out.append(reinterpret_cast<const char*>(&value), sizeof value); };
  std::int32_t x = 0, y = 0, z = 0;
  std::int16_t angle = 0;
  std::uint16_t source = 7, infrared = 500;
  std::array<std::uint16_t, 3> colour{};
  double time = 1.5e8;
  std::string more(extra, '\0');
  for (std::size_t i = 0; i < n; ++i) {
    const std::int64_t returns = rarely(0.5) ? 1 : whole(1, 16), number = whole(1, static_cast<double>(returns) + 1);
    x += static_cast<std::int32_t>(whole(-50, 51)), y = static_cast<std::int32_t>(whole(-3000, 3000));
    z = static_cast<std::int32_t>(rarely(0.05) ? whole(-2147483648.0, 2147483648.0) : whole(-100, 100));
    if (rarely(0.01)) x = static_cast<std::int32_t>(whole(-2147483648.0, 2147483648.0) / 2);
    if (rarely(0.6)) time += rarely(0.5) ? 1e-5 : rarely(0.1) ? 50.0 : random.uniform(-1e-3, 1e-2);
    if (rarely(0.02)) time = 1e8 * static_cast<double>(whole(-3, 4)) + random.uniform(0, 1);
    if (rarely(0.05)) source = static_cast<std::uint16_t>(whole(0, 65536));
    if (rarely(0.2)) angle = static_cast<std::int16_t>(whole(-30000, 30000));
    infrared = static_cast<std::uint16_t>(infrared + whole(-300, 300));
    for (std::uint16_t& c : colour)
      c = static_cast<std::uint16_t>(rarely(0.2) ? whole(0, 65536) : c + whole(-200, 200));
    if (rarely(0.2)) colour[1] = colour[2] = colour[0];
    for (char& c : more)
      if (rarely(0.3)) c = static_cast<char>(whole(0, 256));
    put(x), put(y), put(z), put(static_cast<std::uint16_t>(rarely(0.5) ? 100 : whole(0, 65536)));
    put(static_cast<std::uint8_t>(number | returns << 4));
    put(static_cast<std::uint8_t>(whole(0, 16) | whole(0, channels) << 4 | whole(0, 4) << 6));
    put(static_cast<std::uint8_t>(rarely(0.8) ? 2 : whole(0, 256))),
        put(static_cast<std::uint8_t>(rarely(0.9) ? 0 : whole(0, 256)));
    put(angle), put(source), put(time);
    if (format >= 7)
      for (const std::uint16_t c : colour) put(c);
    if (format == 8) put(infrared);
    out += more;
  }
  return out;
}

cloud::LazLayout layout(int format, std::size_t extra) {
  cloud::LazLayout out;
  out.format = format;
  out.record_length = (format == 6 ? 30u : format == 7 ? 36u : 38u) + extra;
  return out;
}

}  // namespace

TEST_CASE("Symbols cost what their shares say, and come back; so do whole numbers of any size") {
  Random random(3);
  cloud::RangeEncoder encoder;
  cloud::SymbolModel model(40);
  cloud::IntegerModel integers(32, 2);
  std::vector<std::uint32_t> symbols;
  std::vector<std::int32_t> numbers;
  for (int i = 0; i < 40000; ++i)
    symbols.push_back(static_cast<std::uint32_t>(std::min(39.0, -4 * std::log(random.uniform(1e-9, 1)))));
  for (const std::uint32_t s : symbols) encoder.symbol(model, s);
  const std::string alone = [&] {
    auto copy = encoder;
    return copy.finish();
  }();
  // Entropy of the geometric law with shares (1 - q) q^k, q = exp(-1/4): bits a symbol.
  const double q = std::exp(-0.25), bits = (-q * std::log2(q) - (1 - q) * std::log2(1 - q)) / (1 - q);
  CHECK(8.0 * static_cast<double>(alone.size()) == Approx(40000 * bits).epsilon(0.02));  // a model has to be learnt
  for (const std::int32_t v : {0, 1, -1, 2, 255, -256, 65535, -65536, 2147483647, -2147483647 - 1})
    numbers.push_back(v);
  for (int i = 0; i < 2000; ++i)
    numbers.push_back(static_cast<std::int32_t>(std::ldexp(random.uniform(-1, 1), i % 32)));
  std::int32_t before = 0;
  for (std::size_t i = 0; i < numbers.size(); ++i) before = integers.code(encoder, before, numbers[i], i % 2);
  encoder.word(0xDEADBEEF), encoder.bits(27, 0x5ABCDEF);
  const std::string bytes = encoder.finish();
  cloud::RangeDecoder decoder(bytes);
  cloud::SymbolModel again(40);
  cloud::IntegerModel integers_again(32, 2);
  bool same = true;
  for (const std::uint32_t s : symbols) same = same && decoder.symbol(again) == s;
  before = 0;
  for (std::size_t i = 0; i < numbers.size(); ++i)
    same = same && (before = integers_again.code(decoder, before, 0, i % 2)) == numbers[i];
  CHECK(same);
  CHECK(decoder.word() == 0xDEADBEEF);
  CHECK(decoder.bits(27) == 0x5ABCDEF);
  CHECK(!decoder.overrun());
}

TEST_CASE("Points of all formats come back to the bit") {
  for (const auto& [format, extra] : {std::pair{6, 0}, {6, 3}, {7, 9}, {8, 0}, {8, 2}})
    for (const std::size_t n : {1, 2, 3000}) {
      const auto how = layout(format, static_cast<std::size_t>(extra));
      const std::string records = lively(format, static_cast<std::size_t>(extra), n, 7 + n);
      CHECK(cloud::decompressed(cloud::compressed(records, how), n, how) == records);
    }
  // Channels have memories of their own; what is written as items of version 4 keeps to them otherwise.
  for (const auto& [format, extra] : {std::pair{6, 0}, {7, 2}, {8, 3}})
    for (const bool mended : {false, true}) {
      auto how = layout(format, static_cast<std::size_t>(extra));
      how.mended = mended;
      const std::string mixed = lively(format, static_cast<std::size_t>(extra), 3000, 5, 4);
      CHECK(cloud::decompressed(cloud::compressed(mixed, how), 3000, how) == mixed);
    }
}

TEST_CASE("Points of the older formats, coded one by one, come back to the bit") {
  Random random(8);
  for (const auto& [format, plain, extra] : {std::tuple{0, 20, 0}, {1, 28, 3}, {2, 26, 0}, {3, 34, 9}}) {
    cloud::LazLayout how;
    how.format = format, how.record_length = static_cast<std::size_t>(plain + extra);
    // Any bytes at all, some of them as in the record before: times, returns and flags of every kind.
    std::string records;
    for (std::size_t i = 0; i < 4000 * how.record_length; ++i)
      records += i >= how.record_length && random.uniform(0, 1) < 0.7
                     ? records[i - how.record_length]
                     : static_cast<char>(static_cast<int>(random.uniform(0, 256)));
    for (const std::size_t n : {1, 2, 4000}) {
      const std::string part = records.substr(0, n * how.record_length), packed = cloud::compressed(part, how);
      CHECK(cloud::decompressed(packed, n, how) == part);
      CHECK_THROWS_AS(cloud::decompressed(packed.substr(0, how.record_length - 1), n, how), Error);
    }
  }
}

TEST_CASE("A file that is compressed and read again is the same file, several chunks, records and all") {
  const Folder folder;
  std::vector<cloud::CloudRecord> points;
  Random random(9);
  for (int i = 0; i < 120000; ++i) {
    cloud::CloudRecord p;
    p.X = {431000 + 0.01 * (i % 400), 6822000 + 0.01 * (i / 400), 640 + random.normal(0.01)};
    p.colour = {static_cast<std::uint8_t>(90 + i % 7), 80, static_cast<std::uint8_t>(70 + i % 3)};
    p.rays = static_cast<std::uint8_t>(2 + i % 5), p.sigma_match = 0.01f, p.sigma_z = 0.02f;
    points.push_back(p);
  }
  const fs::path plain = folder.path / "plain.las", packed = folder.path / "packed.laz",
                 back = folder.path / "back.las";
  cloud::write_cloud(plain, points, "LOCAL_CS[\"a place\"]");
  cloud::write_cloud(packed, points, "LOCAL_CS[\"a place\"]");
  CHECK(3 * fs::file_size(packed) < fs::file_size(plain));
  cloud::LasReader reader(packed);
  CHECK((reader.header().compressed && reader.header().points == points.size() &&
         reader.header().crs() == "LOCAL_CS[\"a place\"]"));
  CHECK(reader.header().attribute("sigma_z") != nullptr);
  {
    cloud::LasWriter writer(back, reader.header());
    for (cloud::LasPoints batch = reader.next(33333); batch.size() > 0; batch = reader.next(33333))
      writer.add(batch.bytes.data(), batch.size());
    writer.finish();
  }
  CHECK(read_file(back) == read_file(plain));
  reader.rewind();
  CHECK(reader.next(10).bytes == cloud::LasReader(plain).next(10).bytes);
  // Formats that are not compressed are refused before a file is there.
  cloud::LasHeader old = reader.header();
  old.format = 10;
  CHECK_THROWS_WITH(cloud::LasWriter(folder.path / "old.laz", old),
                    Catch::Matchers::Contains("format 10 are not compressed"));
  CHECK(!fs::exists(folder.path / "old.laz"));
}

TEST_CASE("Damage of a compressed file is told in a sentence, wherever it is") {
  const Folder folder;
  std::vector<cloud::CloudRecord> points(300);
  for (std::size_t i = 0; i < points.size(); ++i)
    points[i].X = {431000 + 0.1 * static_cast<double>(i * i % 17), 6822000, 640 + 0.01 * static_cast<double>(i % 9)};
  cloud::write_cloud(folder.path / "good.laz", points, "LOCAL_CS[\"a place\"]");
  const std::string good = read_file(folder.path / "good.laz");
  const auto read = [&](const std::string& bytes) {
    std::ofstream(folder.path / "bad.laz", std::ios::binary) << bytes;
    cloud::LasReader reader(folder.path / "bad.laz");
    std::size_t n = 0;
    for (cloud::LasPoints batch = reader.next(); batch.size() > 0; batch = reader.next()) n += batch.size();
    return n;
  };
  CHECK(read(good) == points.size());
  for (std::size_t length = 0; length < good.size(); ++length) CHECK_THROWS_AS(read(good.substr(0, length)), Error);
  Random random(4);
  for (std::size_t at = 0; at < good.size(); ++at) {  // a flipped bit may leave another cloud, but never more than that
    std::string bad = good;
    bad[at] = static_cast<char>(bad[at] ^ (1 << static_cast<int>(random.uniform(0, 8))));
    try {
      read(bad);
    } catch (const Error&) {
    }
  }
}

TEST_CASE("An octree holds each point once, in its cube, and an overview of it is read without the rest") {
  const Folder folder;
  Progress quiet;
  // Two hillsides and a pole, of more points than are sorted at once; every class tells a point from all others.
  std::vector<cloud::CloudRecord> records;
  Random random(3);
  for (int i = 0; i < 30000; ++i) {
    const double x = random.uniform(0, 400), y = random.uniform(0, 300);
    records.push_back({{x, y, i % 50 == 0 ? random.uniform(0, 90) : 0.1 * x}, {static_cast<std::uint8_t>(i), 2, 3}});
  }
  const fs::path plain = folder.path / "c.las", tree = folder.path / "c.copc.laz", again = folder.path / "d.las";
  cloud::write_cloud(plain, records, "x");
  cloud::OctreeOptions options;
  options.in_memory = 4000, options.leaf = 300, options.scratch = folder.path;
  cloud::LasReader from(plain);
  const std::size_t nodes = cloud::write_octree(from, tree, options, quiet);
  CHECK(nodes > 30);
  const auto sorted = [](const fs::path& path) {
    cloud::LasReader file(path);
    std::vector<std::string> out;
    for (cloud::LasPoints points = file.next(); points.size() > 0; points = file.next())
      for (std::size_t i = 0; i < points.size(); ++i) out.emplace_back(points.record(i), file.header().record_length);
    std::sort(out.begin(), out.end());
    return out;
  };
  CHECK(sorted(tree) == sorted(plain));

  // Entries by the specification's offsets, read here: each node's points lie in its cube.
  const std::string bytes = read_file(tree);
  const auto number = [&](std::size_t at) {
    std::uint64_t v;
    std::memcpy(&v, bytes.data() + at, 8);
    return v;
  };
  const auto real = [&](std::size_t at) {
    double v;
    std::memcpy(&v, bytes.data() + at, 8);
    return v;
  };
  REQUIRE(bytes.compare(375 + 2, 4, "copc") == 0);
  const std::size_t info = 375 + 54;
  CHECK(real(info + 32) == Approx(2 * real(info + 24) / 128));
  cloud::LasReader whole(tree);
  CHECK(whole.header().records.size() == 2);  // a copy is no octree any more, and does not say so
  CHECK(whole.only({}, 1e9));
  const std::uint64_t overview = whole.to_read();
  const cloud::LasPoints coarse = whole.next();
  CHECK((coarse.size() == overview && overview < 20000 && overview > 1000));
  // One point a cell of a 128th of the side, none of them twice.
  std::set<std::array<int, 3>> cells;
  const double side = 2 * real(info + 24);
  for (std::size_t i = 0; i < coarse.size(); ++i) {
    const Eigen::Vector3d low(real(info) - side / 2, real(info + 8) - side / 2, real(info + 16) - side / 2);
    const Eigen::Vector3d at = (coarse.at(i) - low) / side * 128;
    cells.insert({static_cast<int>(at.x()), static_cast<int>(at.y()), static_cast<int>(at.z())});
  }
  CHECK(cells.size() == coarse.size());
  // A corner: all points there, and few others are read.
  const Eigen::AlignedBox2d corner(Eigen::Vector2d(0, 0), Eigen::Vector2d(30, 30));
  whole.only(corner);
  std::size_t there = 0, truly = 0;
  for (cloud::LasPoints points = whole.next(); points.size() > 0; points = whole.next())
    for (std::size_t i = 0; i < points.size(); ++i) there += corner.contains(Eigen::Vector2d(points.at(i).head<2>()));
  for (const cloud::CloudRecord& r : records) truly += corner.contains(Eigen::Vector2d(r.X.head<2>()));
  CHECK(std::abs(static_cast<double>(there) - static_cast<double>(truly)) <= 2);  // on the rim, by a millimetre
  CHECK(whole.to_read() - overview < (records.size() - overview) / 4);

  options.in_memory = 3'000'000;  // at once: the same points, and pages in one
  cloud::write_octree(from, again.string() + ".copc.laz", options, quiet);
  CHECK(sorted(again.string() + ".copc.laz") == sorted(plain));
  // Pages that are not there, or lead round in circles.
  std::string broken = bytes;
  std::memset(broken.data() + info + 40, 0x7f, 8);
  write_file(folder.path / "b.laz", broken);
  cloud::LasReader bad(folder.path / "b.laz");
  CHECK_THROWS_WITH(bad.only({}), Catch::Contains("pages of its octree"));
  REQUIRE(number(info + 48) >= 32);
}
