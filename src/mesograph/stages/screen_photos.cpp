#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/photo/flight.hpp>
#include <mesograph/stages/examine_photos.hpp>
#include <mesograph/stages/screen_photos.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

/// Distance of each photo to the nearest other one, m; NaN without positions.
std::vector<double> nearest_distances(const std::vector<photo::FlightPhoto>& photos) {
  std::vector<double> out(photos.size(), nan);
  parallel_for(photos.size(), 64, [&](std::size_t i) {
    double best = 1e300;
    for (std::size_t j = 0; j < photos.size(); ++j)
      if (j != i && photos[j].at.allFinite()) best = std::min(best, (photos[i].at - photos[j].at).squaredNorm());
    if (photos[i].at.allFinite() && best < 1e300) out[i] = std::sqrt(best);
  });
  return out;
}

bool readable(const Photo& p) { return !p.path.empty() && !is_unreadable(p) && !is_copy(p); }

}  // namespace

void judge_positions(const Survey& survey, PhotoTable& table, Progress& progress) {
  std::vector<const Photo*> placed;
  std::map<std::string, std::vector<std::size_t>> sorties;  // of `placed`
  for (const Photo& p : table.photos) {
    if (!readable(p) || !p.position.head<2>().allFinite()) continue;
    sorties[p.sortie].push_back(placed.size());
    placed.push_back(&p);
  }
  const auto flown = flight_photos(placed, table);  // all at once: one plane for all
  std::set<const Photo*> lost;
  for (const auto& [name, members] : sorties) {
    std::vector<Eigen::Vector2d> places;
    std::vector<double> sigmas;
    for (const std::size_t i : members) {
      places.push_back(flown[i].at);
      if (placed[i]->sigma_h > 0) sigmas.push_back(placed[i]->sigma_h);
    }
    const double set = survey.settings.sortie(name).sigma_photo[0];
    const double noise = set > 0 ? set : sigmas.empty() ? 3.0 : median(sigmas);
    if (!photo::within_noise(places, noise)) continue;
    for (const std::size_t i : members) lost.insert(placed[i]);
    progress.say(
        fmt::format("sortie {}: its {} positions lie within their own noise of {:g} m and say nothing about where the "
                    "photos are; they are not used",
                    name, members.size(), noise));
  }
  for (Photo& p : table.photos)
    if (lost.count(&p)) p.position.setConstant(nan);
}

void screen_sorties(PhotoTable& table, const std::vector<Decision>& decisions) {
  std::map<std::string, std::vector<Photo*>> sorties;
  std::vector<const Photo*> all;
  for (Photo& p : table.photos)
    if (readable(p)) sorties[p.sortie].push_back(&p), all.push_back(&p);
  const auto flown = flight_photos(all, table);
  const std::vector<double> nearest = nearest_distances(flown);
  std::map<const Photo*, std::size_t> number;
  for (std::size_t i = 0; i < all.size(); ++i) number[all[i]] = i;
  for (auto& [name, members] : sorties) {
    if (std::all_of(members.begin(), members.end(), [](const Photo* p) { return !p->metadata.time.empty(); }))
      std::stable_sort(members.begin(), members.end(),
                       [](const Photo* a, const Photo* b) { return a->metadata.time < b->metadata.time; });
    std::vector<photo::ScreeningInput> inputs;
    for (const Photo* p : members)
      inputs.push_back(
          {p->image, p->quality, p->width, p->height, flown[number[p]].at, p->metadata.height, nearest[number[p]]});
    for (Photo* p : members) p->screened_out.reset();
    std::map<std::string, photo::ScreenedOut> out;
    for (const photo::ScreenedOut& o : photo::screen(inputs)) out[o.image] = o;
    for (Photo* p : members)
      if (const auto found = out.find(p->image); found != out.end()) p->screened_out = found->second.why;
  }
  for (const Decision& d : decisions)
    for (Photo& p : table.photos) {
      if (p.image != d.image || is_unreadable(p)) continue;
      p.screened_out.reset();
      if (d.decision == "drop") p.screened_out = photo::Screened{photo::ScreeningReason::by_hand, "", nan};
    }
}

std::vector<Decision> decisions_by_hand(const std::vector<Photo>& photos, const std::vector<std::string>& drop,
                                        const std::vector<std::string>& keep) {
  std::vector<Decision> made;
  const auto note = [&](const std::vector<std::string>& patterns, const char* what) {
    for (const std::string& pattern : patterns) {
      bool any = false;
      for (const Photo& p : photos)
        if (glob_match(pattern, p.image)) made.push_back({p.image, what, time_now(), "by hand"}), any = true;
      if (!any) throw Error("admit: no photo is named like '{}'; see status for the names", pattern);
    }
  };
  note(drop, "drop");
  note(keep, "keep");
  return made;
}

}  // namespace mesograph::stages
