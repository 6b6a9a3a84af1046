#include <algorithm>
#include <array>
#include <atomic>
#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/threads.hpp>

using namespace mesograph;

namespace {
CsvTable table_of(const std::string& text, const std::vector<std::string>& required = {"id"}) {
  const auto path = std::filesystem::temp_directory_path() / "mesograph-csv-test.csv";
  write_file(path, text);
  return CsvTable(path, required);
}
}  // namespace

TEST_CASE("CSV fields come back as they were quoted") {
  const CsvTable table = table_of("\xEF\xBB\xBFid,east\r\n\"a,\"\"b\"\"\", 1.5 \r\n\n# said aside\nc,\n");
  REQUIRE(table.rows() == 2);
  CHECK(table.text(0, "id") == "a,\"b\"");
  CHECK(table.number(0, "east") == 1.5);
  CHECK_FALSE(table.number(1, "east").has_value());
  CHECK(csv_field("a,\"b\"") == "\"a,\"\"b\"\"\"");
}

TEST_CASE("A bad CSV file is refused with file, line and what to do") {
  using Catch::Matchers::Contains;
  CHECK_THROWS_WITH(table_of("name\nx\n"), Contains("column 'id' is missing"));
  CHECK_THROWS_WITH(table_of("id,east\nx\n"), Contains(":2: 1 fields where the header has 2"));
  CHECK_THROWS_WITH(table_of("id\n\"x\n"), Contains(":2: a quote is not closed"));
  for (const char* bad : {"1,5x", "nan", "inf", "12 m"}) {
    const CsvTable table = table_of(std::string("id,east\nx,\"") + bad + "\"\n");
    CHECK_THROWS_WITH(table.number(0, "east"), Contains("is not a number"));
  }
}

TEST_CASE("Row by row a table says the same as at once") {
  const std::string text = "\xEF\xBB\xBF# made by hand\nid,x,note\r\nA,1.5,\"b, \"\"c\"\"\"\n\n,,\nB,,  d \n";
  const CsvTable whole = table_of(text);
  const auto path = std::filesystem::temp_directory_path() / "mesograph-csv-test.csv";
  CsvReader reader(path, {"id"});
  const std::size_t x = *reader.column("x"), note = *reader.column("note");
  for (std::size_t row = 0; row < whole.rows(); ++row) {
    REQUIRE(reader.next());
    CHECK(reader.text(note) == whole.text(row, "note"));
    CHECK(reader.number(x) == whole.number(row, "x"));
    CHECK(reader.where() == whole.where(row));
  }
  CHECK_THROWS_WITH(reader.required_number(x), Catch::Matchers::Contains(":6: x is empty"));
  CHECK_FALSE(reader.next());
  CHECK_THROWS_AS(CsvReader(path.parent_path() / "no such file.csv", {"id"}), Error);
}

TEST_CASE("Numbers have the decimals of the exchange files and no negative zero") {
  CHECK(csv_length(-0.0000001) == "0.00000");
  CHECK(csv_pixels(12.34567) == "12.3457");
  CHECK(csv_length(0.0 / 0.0).empty());
}

TEST_CASE("A file that cannot be written leaves the old one") {
  const auto folder = std::filesystem::temp_directory_path() / "mesograph-write-test";
  std::filesystem::remove_all(folder);
  write_file(folder / "a" / "x.csv", "old");
  std::filesystem::create_directories(folder / "a" / "x.csv.part");  // the scratch name is taken by a folder
  CHECK_THROWS_AS(write_file(folder / "a" / "x.csv", "new"), Error);
  CHECK(read_file(folder / "a" / "x.csv") == "old");
}

TEST_CASE("Patterns and near words") {
  CHECK(glob_match("G*.jp?", "G0012.jpg"));
  CHECK_FALSE(glob_match("G*.jp?", "C0012.jpg"));
  CHECK(glob_match("G000[12]*", "G0002.jpg"));
  CHECK_FALSE(glob_match("G000[12]*", "G0003.jpg"));
  const std::vector<std::string> known = {"densify", "report"};
  CHECK(nearest_word("densfy", known) == "densify");
  CHECK(nearest_word("qqqq", known).empty());
}

TEST_CASE("Hashes tell one bit apart and do not change between runs") {
  // Known answer of XXH3 with 128 bits for the empty input (xxHash's own test vectors).
  CHECK(hash_bytes("") == "99aa06d3014798d86001c324468d497f");
  CHECK(hash_bytes("slip") != hash_bytes("slip "));
  CHECK(hash_bytes("slip").size() == 32);
  CHECK(seed_from("G0001.jpg|G0002.jpg") != seed_from("G0002.jpg|G0001.jpg"));
  const auto path = std::filesystem::temp_directory_path() / "mesograph-hash-test";
  write_file(path, std::string(3'000'000, 'x') + "y");
  CHECK(hash_file(path) == hash_bytes(std::string(3'000'000, 'x') + "y"));
  CHECK_THROWS_AS(hash_file(path.string() + ".none"), Error);
}

TEST_CASE("Every index of a parallel loop is run once, and its exception comes out") {
  for (const std::size_t n : {0u, 1u, 7u, 10000u}) {
    std::vector<std::atomic<int>> runs(n);
    parallel_for(n, [&](std::size_t i) { ++runs[i]; });
    parallel_for(n, 64, [&](std::size_t i) { ++runs[i]; });
    CHECK(std::all_of(runs.begin(), runs.end(), [](const auto& r) { return r == 2; }));
  }
  CHECK_THROWS_WITH(parallel_for(100,
                                 [](std::size_t i) {
                                   if (i == 50) throw Error("photo {} is bad", i);
                                 }),
                    "photo 50 is bad");
}

TEST_CASE("A loop inside another runs to its end though the outer one fails") {
  std::atomic<int> halves = 0;
  for (int round = 0; round < 20; ++round)
    CHECK_THROWS_AS(parallel_for(64, 1,
                                 [&](std::size_t outer) {
                                   std::vector<char> done(500, 0);
                                   parallel_for(done.size(), 1, [&](std::size_t i) { done[i] = 1; });
                                   if (std::count(done.begin(), done.end(), 1) != 500) ++halves;
                                   if (outer % 7 == 3) throw Error("one of them");
                                 }),
                    Error);
  CHECK(halves == 0);
}

TEST_CASE("Random numbers follow their seed and their distribution") {
  Random a(7), b(7), c(8);
  CHECK(a.uniform(0, 1) == b.uniform(0, 1));
  CHECK(a.uniform(0, 1) != c.uniform(0, 1));
  double sum = 0, squares = 0;
  constexpr int n = 20000;
  std::array<int, 5> counts{};
  for (int i = 0; i < n; ++i) {
    const double v = a.normal(2.0);
    sum += v, squares += v * v;
    ++counts[a.below(5)];
  }
  CHECK(std::abs(sum / n) < 3.3 * 2 / std::sqrt(n));
  CHECK(std::abs(squares / n / 4 - 1) < 3.3 * std::sqrt(2.0 / n));
  for (const int count : counts) CHECK(std::abs(count - n / 5) < 3.3 * std::sqrt(n * 0.2 * 0.8));
}

TEST_CASE("Cancelled work stops at its next check") {
  Progress progress;
  progress.check();
  progress.cancel();
  CHECK_THROWS_AS(progress.check(), Cancelled);
}

TEST_CASE("Messages hold what they were given") {
  CHECK_THROWS_WITH((throw Error("{}:{}: height '{}' is not a number; write metres", "c.csv", 4, "high")),
                    "c.csv:4: height 'high' is not a number; write metres");
}

TEST_CASE("The median is the middle value that occurs") {
  CHECK(median({3.0}) == 3.0);
  CHECK(median({5.0, 1.0, 3.0}) == 3.0);
  CHECK(median({4.0, 1.0, 3.0, 2.0}) == 3.0);
  CHECK(std::isnan(median({})));
  Random random(3);
  for (int n = 0; n < 50; ++n) {
    std::vector<double> values(1 + random.below(40));
    for (double& v : values) v = random.normal(1);
    std::vector<double> sorted = values;
    std::sort(sorted.begin(), sorted.end());
    CHECK(median(values) == sorted[sorted.size() / 2]);
  }
}
