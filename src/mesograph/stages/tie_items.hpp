#pragma once

#include <map>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/pairs.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/stages/tie_options.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

// The work items of tie: the keypoints of a photo, and the matches of a photo with its partners. Each is a pure
// function of what its file name's hash stands for; what is there already is taken.

std::filesystem::path keypoint_item(const survey::Survey& survey, const survey::Photo& photo, int limit);
/// Cost: a decoded photo a thread.
void find_keypoints(const survey::Survey& survey, const std::vector<const survey::Photo*>& photos, int limit,
                    Progress& progress);
keypoint::Keypoints read_keypoints(const std::filesystem::path& item);

/// The pairs that are tried.
match::Pairs plan(const survey::Survey& survey, const survey::PhotoTable& table, PairChoice how, int limit,
                  Progress& progress);

/// Pairs grouped by their first photo: one work item each.
struct MatchItem {
  int photo = 0;
  std::vector<int> partners;
  std::filesystem::path file;
};
std::vector<MatchItem> match_items(const survey::Survey& survey, const survey::PhotoTable& table,
                                   const match::Pairs& pairs, int limit);
/// Matches, verifies and matches again along the verified geometry.
void match_photos(const survey::Survey& survey, const survey::PhotoTable& table, const std::vector<MatchItem>& items,
                  int limit, Progress& progress);
/// Matches of one item; empty pairs are those that failed. `number`: of each image.
std::vector<match::PairMatches> read_matches(const std::filesystem::path& file, int photo,
                                             const std::map<std::string, int>& number);

std::map<std::string, int> numbers_of(const std::vector<const survey::Photo*>& photos);

/// Which items hold the matches of the last tie, and which pairs the photos around contradict.
struct MatchedPairs {
  std::vector<std::pair<std::string, std::string>> items;    ///< photo, name of the file
  std::vector<std::pair<std::string, std::string>> dropped;  ///< photo, photo

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("items", s.items), visit("dropped", s.dropped);
  }
};
void save_matched_pairs(const survey::Survey& survey, const MatchedPairs& pairs);

/// Stored keypoints of one photo; throws Error where tie has not run.
keypoint::Keypoints load_keypoints(const survey::Survey& survey, const survey::Photo& photo);
/// Verified matches of all pairs, photos counted as in PhotoTable::kept.
std::vector<match::PairMatches> load_matches(const survey::Survey& survey);

}  // namespace mesograph::stages
