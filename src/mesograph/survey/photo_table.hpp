#pragma once

#include <mesograph/camera/camera.hpp>
#include <mesograph/photo/flight.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::survey {

/// The camera with its start value of c and nothing else known.
camera::Camera start_camera(const CameraStart& start);

/// All photos of the survey and their cameras, as admit left them.
struct PhotoTable {
  std::vector<Photo> photos;  ///< sorted by sortie and image
  std::vector<CameraStart> cameras;
  std::string inputs;  ///< fingerprint of what they were admitted with beside the photos themselves
  std::string names;   ///< of metadata, under which properties were looked for

  std::vector<const Photo*> kept() const&;
  std::vector<const Photo*> kept() && = delete;  // the pointers would outlive the table
  const CameraStart& camera(const std::string& name) const;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("photos", s.photos), visit("cameras", s.cameras), visit("inputs", s.inputs), visit("names", s.names);
  }
};

/// The stored table; throws Error where nothing was admitted yet.
/// Exact: to the bit. Cost: about a kilobyte a photo.
PhotoTable load_photos(const Survey& survey);
/// The fingerprint of that table, on which all later stages depend: of what the photos are and say, not of where they
/// lie; empty where there is none.
std::string photos_fingerprint(const Survey& survey);

/// Whether there is a table that this version can read.
bool has_photos(const Survey& survey);
/// Stores the table.
void save_photos(const Survey& survey, const PhotoTable& photos);
/// The fingerprint that a table has or will have.
std::string fingerprint_of(const PhotoTable& photos);

/// What photo::view_flight needs of these photos: plan in metres, near enough to tell neighbours.
std::vector<photo::FlightPhoto> flight_photos(const std::vector<const Photo*>& photos, const PhotoTable& table);

}  // namespace mesograph::survey
