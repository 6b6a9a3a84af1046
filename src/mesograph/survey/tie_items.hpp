#pragma once

#include <map>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/pairs.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::survey {

// The work items of tie: the keypoints of a photo, and the matches of a photo with its partners. Each is a pure
// function of what its file name's hash stands for; what is there already is taken.

std::filesystem::path keypoint_item(const Survey& survey, const Photo& photo, int limit);
void find_keypoints(const Survey& survey, const std::vector<const Photo*>& photos, int limit, Progress& progress);
keypoint::Keypoints read_keypoints(const std::filesystem::path& item);

/// Which pairs are tried: "positions" (footprints side by side; photos without position by similarity), "similar",
/// "all".
match::Pairs plan(const Survey& survey, const PhotoTable& table, const std::string& how, int limit, Progress& progress);

/// Pairs grouped by their first photo: one work item each.
struct MatchItem {
  int photo = 0;
  std::vector<int> partners;
  std::filesystem::path file;
};
std::vector<MatchItem> match_items(const Survey& survey, const PhotoTable& table, const match::Pairs& pairs, int limit);
/// Matches, verifies and matches again along the verified geometry.
void match_photos(const Survey& survey, const PhotoTable& table, const std::vector<MatchItem>& items, int limit,
                  Progress& progress);
/// Matches of one item; empty pairs are those that failed. `number`: of each image.
std::vector<match::PairMatches> read_matches(const std::filesystem::path& file, int photo,
                                             const std::map<std::string, int>& number);

std::map<std::string, int> numbers_of(const std::vector<const Photo*>& photos);

}  // namespace mesograph::survey
