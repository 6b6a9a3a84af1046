#include <catch2/catch.hpp>
#include <mesograph/base/json.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/solid.hpp>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/admit.hpp>
#include <mesograph/stages/advise.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/measure.hpp>
#include <mesograph/stages/mesh.hpp>
#include <mesograph/stages/mosaic.hpp>
#include <mesograph/stages/orient.hpp>
#include <mesograph/stages/products.hpp>
#include <mesograph/stages/report.hpp>
#include <mesograph/stages/sight.hpp>
#include <mesograph/stages/surface.hpp>
#include <mesograph/stages/tie.hpp>
#include <mesograph/survey/blocks.hpp>

#include "every_field.hpp"
#include "folder.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;

namespace {

/// Calls check(value, name) with a value of each type that is saved, hashed or told.
template <typename... T>
struct Types {
  template <typename Check>
  static void each(const Check& check) {
    (check(T{}), ...);
  }
};
using Saved =
    Types<camera::Camera, camera::CameraEntry, photo::Tone, photo::Metadata, photo::Screened, adjust::Station,
          adjust::Sortie, adjust::Ray, adjust::GroundPoint, adjust::SurveyedPoint, adjust::ScaleBar,
          adjust::CameraPrior, adjust::Block, adjust::NamedBlock, keypoint::Keypoints, dense::DepthMap,
          dense::HeightsTested, sight::Sighting, sight::PredictedSighting, report::Accuracy, report::PointResult,
          report::IdlePoint, report::NormalisedChecks, report::TrendOfErrors, report::GroupResult, report::NamedSuspect,
          report::CalibratedParameter, report::Calibration, report::SortieResult, report::BarResult,
          report::SightingCount, report::SetAside, report::BowlResult, report::AdjustmentSummary, report::Tolerances,
          report::KeptAdjustment, survey::FileMark, survey::Photo, survey::CameraStart, survey::PhotoTable,
          survey::TieTable, survey::TieTable::Point, survey::TieTable::Ray, survey::SortieSettings,
          survey::CameraSettings, survey::ControlSettings, survey::TieSettings, survey::AdjustSettings,
          survey::DensifySettings, stages::ScreenedPhoto, stages::SortieFlown, stages::Admitted, stages::Tied,
          stages::PhotoLeft, stages::OrientedPart, stages::OrientedSortie, stages::OrientedCamera, stages::WeakLink,
          stages::Oriented, stages::ListedPoint, stages::ListedBar, stages::SiteFit, stages::SiteFit::Residual,
          stages::ControlTaken, stages::Sighted, stages::Adjusted, stages::AdvisedPlace, stages::Foretold,
          stages::Densified, stages::Streamed, stages::Reported, stages::Measured, stages::LengthCheck,
          stages::Mosaicked, stages::MosaicTarget, stages::SurfaceMade, stages::MeshLevel, stages::Meshed,
          mesh::TriangleMesh, mesh::SurfacePart, mesh::Solid>;

}  // namespace

TEST_CASE("Every member of a struct that is saved or told stands in its list of fields") {
  Saved::each([](auto value) {
    using T = decltype(value);
    INFO(typeid(T).name());
    CHECK(visited_fields<T>() == arity<T>());
  });
}

TEST_CASE("Every field filled with what is not its default comes back to the bit, and changes the bytes") {
  Saved::each([](auto value) {
    using T = decltype(value);
    INFO(typeid(T).name());
    int n = 0;
    fill(value, n);
    const std::string bytes = packed(value);
    CHECK(bytes != packed(T{}));
    T back{};
    Unpacker reader(bytes);
    reader.get(back);
    CHECK(reader.at_end());
    CHECK(same(back, value));
    // Each field alone: none shares its bytes with another, none is passed over.
    std::size_t fields = 0;
    T::fields(value, [&](const char*, auto&, Absent = Absent::null) { ++fields; });
    for (std::size_t i = 0; i < fields; ++i) {
      T one{};
      std::size_t k = 0;
      T::fields(one, [&](const char*, auto& field, Absent = Absent::null) {
        if (k++ == i) fill(field, n);
      });
      CHECK(packed(one) != packed(T{}));
    }
  });
}

TEST_CASE("Bytes that are cut anywhere, or whose lengths lie, are refused and never read beyond their end") {
  survey::PhotoTable table;
  int n = 0;
  fill(table, n);
  const std::string bytes = packed(table);
  for (std::size_t keep = 0; keep < bytes.size(); ++keep) {
    survey::PhotoTable out;
    Unpacker reader(std::string_view(bytes).substr(0, keep));
    CHECK_THROWS_AS(reader.get(out), Error);
  }
  for (std::size_t at = 0; at < bytes.size(); ++at) {
    std::string flipped = bytes;
    flipped[at] = static_cast<char>(flipped[at] ^ 0x80);
    survey::PhotoTable out;
    try {
      Unpacker(flipped).get(out);
    } catch (const Error&) {
      // either way is right: a number that differs, or a length that cannot be
    }
  }
  const Folder folder;
  write_packed(folder.path / "t", "table 1", table);
  CHECK(has_layout(folder.path / "t", "table 1"));
  CHECK_FALSE(has_layout(folder.path / "t", "table 2"));
  CHECK_FALSE(has_layout(folder.path / "none", "table 1"));
  CHECK_THROWS_WITH(read_packed<survey::PhotoTable>(folder.path / "t", "table 2"), Contains("another version"));
  CHECK(same(read_packed<survey::PhotoTable>(folder.path / "t", "table 1"), table));
}

TEST_CASE("JSON has the words of enumerations, null for what is not known, and nothing for what is left out") {
  report::SetAside aside{"K05", report::AsideBy::decision, {}};
  CHECK(json_of(aside).dump() == R"({"item":"K05","by":"decision"})");
  aside.component = adjust::Component::height, aside.size = 0.25, aside.w = 12.5;
  CHECK(json_of(aside).dump() == R"({"item":"K05","by":"decision","component":"height","size":0.25,"w":12.5})");
  const report::BowlResult bowl{0.1, mesograph::nan, 0.25};
  CHECK(json_of(bowl).dump() == R"({"sigma":0.1,"in_positions":null,"oblique_share":0.25})");
  CHECK(json_of(stages::ScreenedPhoto{"a.jpg", "blurred", 0.5, "said"}).dump() ==
        R"({"image":"a.jpg","reason":"blurred","value":0.5})");
  CHECK(json_of(std::map<std::string, std::optional<int>>{{"a", 1}, {"b", {}}}).dump() == R"({"a":1,"b":null})");
  CHECK(json_of(std::vector<std::pair<double, double>>{{1, 2.5}}).dump() == "[[1.0,2.5]]");
}

TEST_CASE("Words become values and values words, and only those that are known") {
  CHECK(word_of(adjust::GroupOf::control_height) == "control height");
  CHECK(from_word<adjust::Role>("check") == adjust::Role::check);
  CHECK_FALSE(from_word<adjust::Role>("Check"));
  CHECK_FALSE(from_word<adjust::Weights>(""));
}
