#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/report/figures.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/sight_sheets.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr int half = 19;  // of a chip, photo pixels: a target of 30 with ground around it

report::Colour frame_of(SightingState state) {
  switch (state) {
    case SightingState::confirmed:
      return {0.15, 0.55, 0.30};
    case SightingState::found:
      return report::check_colour;
    case SightingState::rejected:
      return report::control_colour;
    default:
      return report::faint;
  }
}

/// The pixels around a place; what lies outside the photo stays grey.
photo::Rgb cut(const photo::Rgb& image, const Eigen::Vector2d& at, Eigen::Vector2d& inside) {
  const int left = static_cast<int>(std::floor(at.x())) - half, top = static_cast<int>(std::floor(at.y())) - half;
  photo::Rgb out(2 * half + 1, 2 * half + 1, 3, 190);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col)
      if (left + col >= 0 && top + row >= 0 && left + col < image.width && top + row < image.height)
        for (int ch = 0; ch < 3; ++ch) out.at(col, row, ch) = image.at(left + col, top + row, ch);
  inside = at - Eigen::Vector2d(left, top);
  return out;
}

std::string sheet_name(std::string point) {
  std::replace(point.begin(), point.end(), '/', '@');
  return point + ".png";
}

}  // namespace

void draw_sheets(const Survey& survey, const std::vector<Sighting>& all, const FoundSightings& result,
                 Progress& progress, std::size_t most) {
  std::map<std::string, report::SightingSheet> sheets;
  std::map<std::string, std::vector<std::pair<std::string, std::size_t>>> of_photo;  // photo: sheet and chip
  std::map<std::pair<std::string, std::size_t>, Eigen::Vector2d> places;
  for (const Sighting& s : all) {
    report::SightingSheet& sheet = sheets[s.point];
    if (sheet.chips.size() == most) continue;
    const auto residual = result.residuals.find({s.image, s.point});
    sheet.chips.push_back(
        {s.image,
         to_string(s.state) + (residual == result.residuals.end() || s.state == SightingState::predicted
                                   ? std::string()
                                   : fmt::format(", residual {:.2f} px", residual->second)),
         {},
         Eigen::Vector2d::Zero(),
         frame_of(s.state)});
    of_photo[s.image].emplace_back(s.point, sheet.chips.size() - 1);
    places[{s.point, sheet.chips.size() - 1}] = {s.x, s.y};
  }
  const PhotoTable table = load_photos(survey);
  std::vector<const Photo*> photos;
  for (const Photo& p : table.photos)
    if (of_photo.count(p.image) && !p.path.empty()) photos.push_back(&p);
  progress.start("drawing sheets", photos.size() + sheets.size());
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    try {
      const photo::Rgb image = photo::read_rgb(photos[i]->path);
      for (const auto& key : of_photo.at(photos[i]->image)) {
        report::SightingSheet::Chip& chip = sheets.at(key.first).chips[key.second];
        chip.pixels = cut(image, places.at(key), chip.at);
      }
    } catch (const Error&) {
      // The search has told of a photo that cannot be read; its chips stay empty.
    }
    progress.advance();
  });
  std::vector<std::pair<std::string, report::SightingSheet*>> list;
  for (auto& [point, sheet] : sheets) {
    sheet.title =
        fmt::format("{}: {} photos{}", point, sheet.chips.size(), sheet.chips.size() == most ? ", the best ones" : "");
    list.emplace_back(point, &sheet);
  }
  const fs::path folder = survey.results() / "sheets";
  parallel_for(list.size(), [&](std::size_t i) {
    write_file(folder / sheet_name(list[i].first), report::sighting_sheet(*list[i].second));
    progress.advance();
  });
  std::error_code missing;
  std::vector<fs::path> stale;
  for (const auto& entry : fs::directory_iterator(folder, missing))
    if (std::none_of(list.begin(), list.end(),
                     [&](const auto& l) { return entry.path().filename() == sheet_name(l.first); }))
      stale.push_back(entry.path());
  for (const fs::path& path : stale) fs::remove(path, missing);
}

}  // namespace mesograph::survey
