#pragma once

#include <filesystem>
#include <memory>
#include <mesograph/base/progress.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/photo/screening.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/settings.hpp>
#include <mesograph/survey/store.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::survey {

/// A photo that was admitted, whether it takes part or not.
struct Photo {
  std::string image;  ///< file name; "sortie/name" where a survey has the name twice
  std::string sortie;
  std::filesystem::path path;  ///< empty: without pixels, from a listing
  std::string hash;
  FileMark mark;  ///< of the file when its hash was taken
  int width = 0, height = 0;
  std::optional<photo::Tone> levels;  ///< of a photo of 16 bits: its own range
  photo::Tone tone;                   ///< how its pixels become eight bits: one law for a sortie
  photo::Metadata metadata;
  std::string camera;  ///< name of its camera
  photo::Quality quality;
  /// Where it was taken, as far as is known and of use: WGS 84 longitude, latitude (degrees), ellipsoidal height (m).
  /// From the metadata or from a positions file; NaN: unknown, or lost in its own noise.
  Eigen::Vector3d position = Eigen::Vector3d::Constant(nan);
  double sigma_h = nan, sigma_v = nan;          ///< of the position as its source states it, m
  bool datum_named = false;                     ///< somebody said which datum the position is in
  std::optional<photo::Screened> screened_out;  ///< why; nothing: takes part

  /// What its pixels are, for fingerprints of what is made from them.
  std::string content() const;
  bool takes_part() const { return !screened_out; }

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("path", s.path), visit("mark", s.mark);
    content_fields(s, visit);
  }
  /// All but where it lies and when it came there: what later stages follow from.
  template <typename Self, typename Visit>
  static void content_fields(Self& s, Visit&& visit) {
    visit("image", s.image), visit("sortie", s.sortie), visit("hash", s.hash);
    visit("width", s.width), visit("height", s.height), visit("levels", s.levels), visit("tone", s.tone);
    visit("metadata", s.metadata), visit("camera", s.camera), visit("quality", s.quality);
    visit("position", s.position), visit("sigma_h", s.sigma_h), visit("sigma_v", s.sigma_v);
    visit("datum_named", s.datum_named), visit("screened_out", s.screened_out);
  }
};

/// A camera as the photos introduce it.
struct CameraStart {
  std::string name;
  int width = 0, height = 0;
  double c = nan;        ///< pixels
  bool guessed = false;  ///< no metadata: c is a usual value

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("width", s.width), visit("height", s.height), visit("c", s.c);
    visit("guessed", s.guessed);
  }
};

/// A survey folder, opened: what people wrote, what is stored.
/// Cost: reading survey.toml, finding the CRS in the register: some milliseconds.
struct Survey {
  std::filesystem::path folder;
  Settings settings;
  geo::Crs crs;
  Store store;

  /// Throws Error where the folder is no survey, survey.toml is wrong, or, to change it, another command is at work.
  explicit Survey(const std::filesystem::path& folder, Access access = Access::change);
  /// The same survey for a look before the long run: smaller photos, fewer keypoints, and a store and results of its
  /// own (store/preview, results/preview), so that nothing of it can be taken for the real thing.
  static std::unique_ptr<Survey> preview_of(const Survey& whole);
  bool preview = false;

  std::filesystem::path inputs() const { return folder / "inputs"; }
  std::filesystem::path results() const { return preview ? folder / "results" / "preview" : folder / "results"; }

 private:
  Survey(const Survey& whole, const std::filesystem::path& store_folder);
};

/// Makes DIR with survey.toml, inputs/ and results/. Throws Error where the CRS is not usable (see geo::resolve) or the
/// folder holds a survey.
void create(const std::filesystem::path& folder, std::string name, geo::CrsRequest crs);

/// Hash that tells versions of a stage apart: its name with algorithm number, and everything it depends on.
std::string fingerprint(const std::vector<std::string>& parts);

}  // namespace mesograph::survey
