#include <unistd.h>
#include <algorithm>
#include <array>
#include <atomic>
#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/base/threads.hpp>

#include "folder.hpp"
#include "random_names.hpp"

using namespace mesograph;

namespace {
CsvTable table_of(const std::string& text, const std::vector<std::string>& required = {"id"}) {
  const Folder folder;
  return CsvTable(folder.file("t.csv", text), required);
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
  const Folder folder;
  const auto path = folder.file("t.csv", text);
  const CsvTable whole(path, {"id"});
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
  const Folder folder;
  const auto path = folder.file("a/x.csv", "old");
  std::filesystem::create_directories(folder.path / "a" / "x.csv.part");  // the scratch name is taken by a folder
  CHECK_THROWS_AS(write_file(path, "new"), Error);
  CHECK(read_file(path) == "old");
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
  const Folder folder;
  std::string long_text(3'000'000, 'x');
  long_text.push_back('y');
  const auto path = folder.file("x", long_text);
  CHECK(hash_file(path) == hash_bytes(long_text));
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

TEST_CASE("Any name comes back from a table as it was written, at the beginning of a row, within it and at its end") {
  const Folder folder;
  Random random(5);
  for (const bool crlf : {false, true}) {
    const std::string end = crlf ? "\r\n" : "\n";
    std::string text = "id,x,note" + end;
    std::vector<std::pair<std::string, std::string>> names;
    for (int n = 0; n < 1500; ++n) {
      names.emplace_back(random_name(random), random_name(random));
      text += csv_field(names.back().first) + ",1.5," + csv_field(names.back().second) + end;
    }
    const CsvTable table(folder.file("names.csv", text), {"id", "note"});
    REQUIRE(table.rows() == names.size());
    std::size_t wrong = 0;
    for (std::size_t i = 0; i < names.size(); ++i)
      wrong += table.text(i, "id") != names[i].first || table.text(i, "note") != names[i].second;
    CHECK(wrong == 0);
  }
  // What nobody quoted is trimmed, and a row that begins with '#' is said aside, as people write them.
  const CsvTable table = table_of("id,x\n  A  , 1 \n#B,2\n\"#C\",3\n");
  REQUIRE(table.rows() == 2);
  CHECK(table.text(0, "id") == "A");
  CHECK(table.text(1, "id") == "#C");
  CHECK(table.where(1).ends_with(":4"));
}

TEST_CASE("A sigma that was accepted is written so that it is accepted again, to three digits") {
  for (double sigma = 9.87654321e2; sigma > 1e-9; sigma *= 0.317) {
    const std::string text = csv_sigma(sigma);
    INFO(sigma << " as " << text);
    const double back = std::stod(text);
    CHECK(std::abs(back / sigma - 1) < 0.0051);  // three digits: half of one in a hundred
    CHECK(csv_sigma(back) == text);              // and no worse by being written again
    CHECK(text.size() - text.find('.') - 1 >= 5);
  }
  CHECK(csv_sigma(0.01) == "0.01000");
  CHECK(csv_sigma(0.000001) == "0.000001");
  CHECK(csv_sigma(0.0 / 0.0).empty());
  CHECK_NOTHROW(check_sigma(least_sigma_m, least_sigma_m, "m", "c.csv:2", "point 'K1'"));
  CHECK_NOTHROW(check_sigma(0.0 / 0.0, least_sigma_m, "m", "c.csv:2", "point 'K1'"));
  CHECK_THROWS_WITH(check_sigma(1e-7, least_sigma_m, "m", "c.csv:2", "point 'K1'"),
                    Catch::Matchers::Contains("c.csv:2") && Catch::Matchers::Contains("0.000001 m"));
  CHECK_THROWS_WITH(check_sigma(0, least_sigma_px, "px", "s.csv:2", "point 'K1'"),
                    Catch::Matchers::Contains("not greater than 0"));
}

TEST_CASE("UTF-8 is told from other bytes by the table of RFC 3629") {
  for (const char* good :
       {"", "slip", "Sk\xC3\xA5la", "\xE6\xB2\xB3", "\xF0\x9F\x8F\x94", "\xED\x9F\xBF", "\xF4\x8F\xBF\xBF"})
    CHECK(is_utf8(good));
  // A lone continuation, a cut letter, overlong forms, a surrogate, beyond U+10FFFF, and Latin-1.
  for (const char* bad : {"\x80", "\xC3", "\xE6\xB2", "\xC0\xAF", "\xE0\x80\xAF", "\xF0\x80\x80\xAF", "\xED\xA0\x80",
                          "\xF4\x90\x80\x80", "\xF5\x80\x80\x80", "\xFF", "Sk\xE5la"}) {
    CHECK_FALSE(is_utf8(bad));
    CHECK(is_utf8(to_utf8(bad)));
  }
  CHECK(to_utf8("Sk\xE5la") == "Sk\xC3\xA5la");
}

TEST_CASE("What is being written can be taken back at once, and a file without a name leaves none") {
  const Folder folder;
  const auto scratch = scratch_path(folder.path / "x.las");
  std::ofstream(scratch) << "half";
  drop_scratch(scratch);
  CHECK_FALSE(std::filesystem::exists(scratch));
  const int fd = open_nameless(folder.path);
  CHECK(std::filesystem::is_empty(folder.path));
  CHECK(::write(fd, "abc", 3) == 3);
  ::close(fd);
  CHECK_THROWS_AS(hash_file("/dev/null"), Error);  // no regular file: a pipe would be waited for without end
}

TEST_CASE("Decompositions keep the laws of their definitions, also of matrices without full rank") {
  Random random(3);
  const auto filled = [&](Eigen::Index rows, Eigen::Index cols) {
    Eigen::MatrixXd out(rows, cols);
    for (double& v : out.reshaped()) v = random.normal(1);
    return out;
  };
  // Roundings of some dozen operations on numbers about 1: 1e-15 each, times the condition of random matrices.
  constexpr double rounding = 1e-10;
  const Eigen::MatrixXd A = filled(7, 4), deficient = filled(7, 2) * filled(2, 4), P = pseudo_inverse(deficient);
  CHECK((deficient * P * deficient - deficient).norm() < rounding);  // Moore and Penrose's four
  CHECK((P * deficient * P - P).norm() < rounding);
  CHECK((deficient * P - (deficient * P).transpose()).norm() < rounding);
  CHECK((P * deficient - (P * deficient).transpose()).norm() < rounding);
  const Eigen::VectorXd b = filled(7, 1);
  CHECK((A.transpose() * (A * least_squares(A, b).x - b)).norm() < rounding);
  CHECK(least_squares(A, b).rank == 4);
  CHECK(least_squares(deficient, b).rank == 2);
  const Eigen::MatrixXd rest = orthogonal_complement(A), span = orthonormal(A);
  CHECK(((rest.transpose() * A).norm() < rounding && rest.cols() == 3));
  CHECK((span * span.transpose() + rest * rest.transpose() - Eigen::MatrixXd::Identity(7, 7)).norm() < rounding);
  const Eigen::MatrixXd B = filled(5, 5), S = B * B.transpose();
  CHECK((B * solve_columns(B, S) - S).norm() < rounding);
  CHECK((S * solve_symmetric(S, B) - B).norm() < rounding);
  const Eigen::MatrixXd Z = filled(3, 5), over = over_root(Z, S);
  CHECK((over * over.transpose() - Z * solve_columns(S, Z.transpose())).norm() < 1e-8);
  const GeneralEigen general = general_eigen(B);
  CHECK((B * general.vectors - general.vectors * general.values.asDiagonal()).norm() < rounding);
  const Eigen::Matrix2d C = filled(2, 2);
  CHECK((singular_values_2x2(C) - singular_values(C)).norm() < 1e-7);
  const Eigen::Matrix3Xd from = filled(3, 9), mirrored = -from;
  const Motion back = motion_between(
      from, (2.5 * rotation_between({1, 2, 3}, {3, -1, 0}) * from).colwise() + Eigen::Vector3d(4, 5, 6), true);
  CHECK((std::abs(back.scale - 2.5) < rounding && (back.t - Eigen::Vector3d(4, 5, 6)).norm() < rounding));
  CHECK(motion_between(from, mirrored, false).R.determinant() > 0.5);  // never a mirror image
  for (const Eigen::Vector3d& to : {Eigen::Vector3d(0, 0, 1), Eigen::Vector3d(0, 0, -1), Eigen::Vector3d(1, 1, 1)}) {
    const Eigen::Matrix3d R = rotation_between(Eigen::Vector3d::UnitZ(), to);
    CHECK((R * Eigen::Vector3d::UnitZ() - to.normalized()).norm() < 1e-12);
    CHECK(std::abs(R.determinant() - 1) < 1e-12);
  }
}
