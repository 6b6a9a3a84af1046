#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/report/figures.hpp>
#include <mesograph/report/sight_page.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/sight_sheets.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr int half = 19;  // of a chip, photo pixels: a target of 30 with ground around it

report::ChipFrame frame_of(SightingState state) {
  switch (state) {
    case SightingState::confirmed:
      return report::ChipFrame::full_with_tick;
    case SightingState::found:
      return report::ChipFrame::dashed;
    case SightingState::rejected:
      return report::ChipFrame::struck_through;
    default:
      return report::ChipFrame::dotted;
  }
}

/// A square of so many pixels each way around the pixel of a place; what lies outside the photo stays grey.
photo::Rgb cut(const photo::Rgb& image, int left, int top, int width) {
  photo::Rgb out(width, width, 3, 190);
  for (int row = std::max(0, -top); row < width && top + row < image.height; ++row)
    for (int col = std::max(0, -left); col < width && left + col < image.width; ++col)
      for (int ch = 0; ch < 3; ++ch) out.at(col, row, ch) = image.at(left + col, top + row, ch);
  return out;
}

/// Names of points as names of files, which have 255 bytes at most, ".png.part" among them.
std::string sheet_name(std::string point) {
  std::replace(point.begin(), point.end(), '/', '@');
  constexpr std::size_t longest = 200;
  if (point.size() > longest) point = "point " + hash_bytes(point).substr(0, 16);
  if (point == "." || point == "..") point += '@';
  return point + ".png";
}

/// One sighting that is shown, and where: its sheet and chip, its row of the page.
struct Shown {
  const Sighting* sighting;
  report::SightingSheet::Chip* chip;
  report::SightPage::Row* row;
};

/// Half the width of what the page shows around a sighting: the ellipse of a prediction, in bounds.
int half_on_page(const report::SightPage::Row& row) {
  const double reach = row.ellipse ? 3.3 * (*row.ellipse)[0] : 0.0;
  return std::clamp(static_cast<int>(reach) + 12, 30, 120);
}

void cut_chips(const photo::Rgb& image, const std::vector<Shown>& shown) {
  for (const Shown& s : shown) {
    const int col = static_cast<int>(std::floor(s.sighting->x)), row = static_cast<int>(std::floor(s.sighting->y));
    s.chip->pixels = cut(image, col - half, row - half, 2 * half + 1);
    s.chip->at = Eigen::Vector2d(s.sighting->x - (col - half), s.sighting->y - (row - half));
    const int reach = half_on_page(*s.row);
    s.row->chip = {col - reach, row - reach, 2 * reach + 1,
                   photo::jpeg_bytes(cut(image, col - reach, row - reach, 2 * reach + 1), 88)};
  }
}

/// Everything that is drawn, in the order of the points; chips still empty.
struct Drawings {
  std::map<std::string, report::SightingSheet> sheets;
  report::SightPage page;
  std::map<std::string, std::vector<Shown>> of_photo;
};

using Predicted = std::map<std::pair<std::string, std::string>, const PredictedSighting*>;

report::SightPage::Row row_of(const Sighting& s, const FoundSightings& result, const Predicted& predicted) {
  report::SightPage::Row row{s.image, to_string(s.state), s.origin, s.x, s.y, s.sigma, nan, {}, {}};
  if (s.state == SightingState::predicted) {
    row.sigma = nan;
    if (const auto found = predicted.find({s.image, s.point}); found != predicted.end()) {
      const adjust::Prediction& p = found->second->at;
      row.ellipse = {{p.axes()[0], p.axes()[1], p.direction() * deg_per_rad}};
    }
  } else if (const auto found = result.residuals.find({s.image, s.point}); found != result.residuals.end()) {
    row.residual = found->second;
  }
  return row;
}

Drawings lay_out(const Survey& survey, const std::vector<Sighting>& all,
                 const std::map<std::string, std::string>& roles, const FoundSightings& result, std::size_t most) {
  Drawings out;
  Predicted predicted;
  for (const PredictedSighting& p : result.predicted) predicted[{p.image, p.point}] = &p;
  std::map<std::string, std::vector<const Sighting*>> of_point;
  for (const auto& [id, role] : roles) of_point[id];
  for (const Sighting& s : all) of_point[s.point].push_back(&s);
  out.page.points.reserve(of_point.size());  // rows and chips are pointed at below
  for (const auto& [id, sightings] : of_point) {
    report::SightPage::Point& point = out.page.points.emplace_back();
    point.id = id, point.role = roles.count(id) ? roles.at(id) : "tie point";
    for (const Sighting* s : sightings) point.rows.push_back(row_of(*s, result, predicted));
    if (sightings.empty()) continue;
    report::SightingSheet& sheet = out.sheets[id];
    sheet.chips.resize(std::min(most, sightings.size()));
    sheet.title =
        fmt::format("{}: {} photos{}", id, sheet.chips.size(), sightings.size() > most ? ", the best ones" : "");
    for (std::size_t i = 0; i < sheet.chips.size(); ++i) {
      const report::SightPage::Row& row = point.rows[i];
      sheet.chips[i].image = row.image;
      sheet.chips[i].words =
          row.state + (std::isfinite(row.residual) ? fmt::format(", residual {:.2f} px", row.residual) : "");
      sheet.chips[i].frame = frame_of(sightings[i]->state);
      out.of_photo[row.image].push_back({sightings[i], &sheet.chips[i], &point.rows[i]});
    }
  }
  out.page.title = survey.settings.name;
  out.page.key = fmt::format("{} {}", survey.settings.name, survey.crs.name);
  return out;
}

/// Sheets of points that are gone.
void remove_stale(const fs::path& folder, const std::map<std::string, report::SightingSheet>& sheets) {
  std::set<std::string> names;
  for (const auto& [point, sheet] : sheets) names.insert(sheet_name(point));
  std::error_code missing;
  std::vector<fs::path> stale;
  for (const auto& entry : fs::directory_iterator(folder, missing))
    if (!names.count(entry.path().filename().string())) stale.push_back(entry.path());
  for (const fs::path& path : stale) fs::remove(path, missing);
}

}  // namespace

std::vector<fs::path> draw_sheets(const Survey& survey, const std::vector<Sighting>& all,
                                  const std::map<std::string, std::string>& roles, const FoundSightings& result,
                                  Progress& progress, std::size_t most) {
  Drawings drawings = lay_out(survey, all, roles, result, most);
  const PhotoTable table = load_photos(survey);
  std::vector<const Photo*> photos;
  for (const Photo& p : table.photos) {
    if (p.path.empty()) continue;
    if (drawings.of_photo.count(p.image)) photos.push_back(&p);
    // A browser turns photos by their orientation tag, and then shows other pixels than those that count.
    if (p.screened_out.empty() && p.metadata.orientation == 1)
      drawings.page.photos.push_back({p.image, fs::relative(p.path, survey.results()).generic_string()});
  }
  progress.start("drawing sheets", photos.size() + drawings.sheets.size());
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    try {
      cut_chips(photo::read_rgb(photos[i]->path, 0, photos[i]->tone), drawings.of_photo.at(photos[i]->image));
    } catch (const Error&) {
      // The search has told of a photo that cannot be read; its chips stay empty.
    }
    progress.advance();
  });
  std::vector<std::pair<std::string, const report::SightingSheet*>> list;
  for (const auto& [point, sheet] : drawings.sheets) list.emplace_back(point, &sheet);
  const fs::path folder = survey.results() / "sheets";
  parallel_for(list.size(), [&](std::size_t i) {
    progress.check();
    write_file(folder / sheet_name(list[i].first), report::sighting_sheet(*list[i].second));
    progress.advance();
  });
  remove_stale(folder, drawings.sheets);
  std::vector<fs::path> out = {survey.results() / "sight.html"};
  write_file(out[0], report::sight_page(drawings.page));
  for (const auto& [point, sheet] : list) out.push_back(folder / sheet_name(point));
  return out;
}

}  // namespace mesograph::survey
