#include <catch2/catch.hpp>
#include <filesystem>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>

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
  const std::vector<std::string> known = {"densify", "report"};
  CHECK(nearest_word("densfy", known) == "densify");
  CHECK(nearest_word("qqqq", known).empty());
}
