#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/settings.hpp>

#include "folder.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;
namespace fs = std::filesystem;

namespace {

const std::string head = "schema = 1\n[survey]\ncrs = \"EPSG:25833+5773\"\n";

}  // namespace

TEST_CASE("survey.toml: values are read, mistakes are named with line and cure") {
  const Folder folder;
  const survey::Settings s = survey::read_settings(folder.file(
      "good.toml", head + "name = \"slip\"\n[sortie.north]\nsigma_photo = [0.03, 0.05]\n[tie]\nkeypoints = "
                          "3000\n[adjust]\nfree = [\"c\", \"k1\"]\n"
                          "[densify]\nspacing = 0.2\nwithin = \"site.gpkg\"\nformat = \"laz\"\n[products]\nwant = "
                          "[\"report\"]\n[metadata]\nyaw = [\"Heading\"]\n"));
  CHECK(s.name == "slip");
  CHECK(s.metadata.yaw == std::vector<std::string>{"Heading", "Yaw", "FlightYawDegree"});  // people's names come first
  CHECK(s.sortie("north").sigma_photo[1] == 0.05);
  CHECK(std::isnan(s.sortie("south").sigma_photo[0]));  // not set
  CHECK(s.tie.keypoints == 3000);
  CHECK(s.adjust.free == std::vector<std::string>{"c", "k1"});
  CHECK(s.densify.spacing == 0.2);
  CHECK((s.densify.within == "site.gpkg" && s.densify.format == survey::CloudFormat::laz));
  CHECK(s.want == std::vector<survey::Product>{survey::Product::report});

  const std::vector<std::pair<std::string, std::string>> mistakes = {
      {"[survey]\nname = \"x\"\n", "crs is missing"},
      {head + "crz = 1\n", "did you mean 'crs'"},
      {head + "[densify]\nformat = \"zip\"\n", "must be las or laz"},
      {head + "[tie]\nkeypoint = 5\n", "did you mean 'keypoints'"},
      {head + "[tie]\nlimit = 5\n", "is called keypoints now"},
      {head + "[tie]\nkeypoints = \"many\"\n", "wrong type"},
      {head + "[tie]\nkeypoints = 3\n", "100 or more"},
      {head + "[adjust]\nfree = [\"q\"]\n", "may hold c, x0"},
      {head + "[sortie.a]\nsigma_photo = [1]\n", "two numbers"},
      {head + "[sortie.a]\nsigma_photo = [1, -1]\n", "greater than 0"},
      {head + "[sortie.a]\nlever_arm = [1, 2]\n", "three numbers"},
      {head + "[sortie.a]\nlever_arm = [1, 2, \"up\"]\n", "three numbers"},
      {head + "[sortie.a]\nsigma_attitude = 0\n", "greater than 0"},
      {head + "[adjust]\nweights = \"free\"\n", "given, estimate or estimate all"},
      {head + "[sortie.a]\nheights = \"sea\"\n", "ellipsoidal, geoid or unknown"},
      {head + "[control]\nsigma_h = -1\n", "greater than 0"},
      {head + "[densify]\nlevel = 7\n", "0, 1 or 2"},
      {head + "[control]\nsigma_h = 0.0000001\n", "0.000001 or more"},
      {head + "[sortie.a]\nsigma_photo = [0.03, 0.0000001]\n", "0.000001 or more"},
      {"schema = 9\n" + head.substr(11), "newer than this program"},
      {"schema = = 1\n", "is no TOML"},
  };
  for (const auto& [text, sentence] : mistakes) {
    INFO(text);
    CHECK_THROWS_WITH(survey::read_settings(folder.file("bad.toml", text)), Contains(sentence) && Contains("bad.toml"));
  }
}

TEST_CASE("What new writes, the reader takes") {
  const Folder folder;
  const survey::Settings s = survey::read_settings(
      folder.file("t.toml", survey::settings_text("a \"quoted\" name", {"EPSG:25833", "plain", ""})));
  CHECK(s.name == "a \"quoted\" name");
  CHECK(s.crs.heights == "plain");
}
