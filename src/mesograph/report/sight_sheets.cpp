#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/report/sight_page.hpp>
#include <mesograph/report/sight_sheets.hpp>

namespace mesograph::report {

namespace {

constexpr int half = 19;  // of a chip, photo pixels: a target of 30 with ground around it

draw::ChipFrame frame_of(sight::SightingState state) {
  switch (state) {
    case sight::SightingState::confirmed:
      return draw::ChipFrame::full_with_tick;
    case sight::SightingState::found:
      return draw::ChipFrame::dashed;
    case sight::SightingState::refused:
      return draw::ChipFrame::dashed_with_query;
    case sight::SightingState::rejected:
      return draw::ChipFrame::struck_through;
    default:
      return draw::ChipFrame::dotted;
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
  const sight::Sighting* sighting;
  draw::SightingSheet::Chip* chip;
  SightPage::Row* row;
};

/// Half the width of what the page shows around a sighting: the ellipse of a prediction, in bounds.
int half_on_page(const SightPage::Row& row) {
  const double reach = row.ellipse ? 3.3 * (*row.ellipse)[0] : 0.0;
  // pixels: a target with some ground around it; above 120 it is not seen any better
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
  std::map<std::string, draw::SightingSheet> sheets;
  SightPage page;
  std::map<std::string, std::vector<Shown>> of_photo;
};

using Predicted = std::map<std::pair<std::string, std::string>, const sight::PredictedSighting*>;

SightPage::Row row_of(const sight::Sighting& s, const sight::FoundSightings& result, const Predicted& predicted) {
  SightPage::Row row{s.image, word_of(s.state), s.origin, s.x, s.y, s.sigma, nan, {}, {}};
  if (s.state == sight::SightingState::predicted) {
    row.sigma = nan;
    if (const auto found = predicted.find({s.image, s.point}); found != predicted.end()) {
      const sight::PredictedSighting& p = *found->second;
      row.ellipse = {{p.axis_a, p.axis_b, p.direction_deg}};
    }
  } else if (const auto found = result.residuals.find({s.image, s.point}); found != result.residuals.end()) {
    row.residual = found->second;
  }
  return row;
}

Drawings lay_out(const SheetsInput& input, const sight::FoundSightings& result) {
  Drawings out;
  Predicted predicted;
  for (const sight::PredictedSighting& p : result.predicted) predicted[{p.image, p.point}] = &p;
  std::map<std::string, std::vector<const sight::Sighting*>> of_point;
  for (const auto& [id, role] : input.roles) of_point[id];
  for (const sight::Sighting& s : input.sightings) of_point[s.point].push_back(&s);
  out.page.points.reserve(of_point.size());  // rows and chips are pointed at below
  for (const auto& [id, sightings] : of_point) {
    SightPage::Point& point = out.page.points.emplace_back();
    point.id = id, point.role = input.roles.count(id) ? input.roles.at(id) : "tie point";
    for (const sight::Sighting* s : sightings) point.rows.push_back(row_of(*s, result, predicted));
    if (sightings.empty()) continue;
    draw::SightingSheet& sheet = out.sheets[id];
    sheet.chips.resize(std::min(input.most, sightings.size()));
    sheet.title =
        fmt::format("{}: {} photos{}", id, sheet.chips.size(), sightings.size() > input.most ? ", the best ones" : "");
    for (std::size_t i = 0; i < sheet.chips.size(); ++i) {
      const SightPage::Row& row = point.rows[i];
      sheet.chips[i].image = row.image;
      sheet.chips[i].words =
          row.state + (std::isfinite(row.residual) ? fmt::format(", residual {:.2f} px", row.residual) : "");
      sheet.chips[i].frame = frame_of(sightings[i]->state);
      out.of_photo[row.image].push_back({sightings[i], &sheet.chips[i], &point.rows[i]});
    }
  }
  out.page.title = input.title;
  out.page.key = input.key;
  return out;
}

}  // namespace

Sheets draw_sheets(const SheetsInput& input, const sight::FoundSightings& result, Progress& progress) {
  Drawings drawings = lay_out(input, result);
  std::vector<const SheetPhoto*> photos;
  for (const SheetPhoto& p : input.photos) {
    if (drawings.of_photo.count(p.image)) photos.push_back(&p);
    if (!p.shown_as.empty()) drawings.page.photos.push_back({p.image, p.shown_as});
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
  std::vector<std::pair<std::string, const draw::SightingSheet*>> list;
  for (const auto& [point, sheet] : drawings.sheets) list.emplace_back(point, &sheet);
  Sheets out;
  out.pictures.resize(list.size());
  parallel_for(list.size(), [&](std::size_t i) {
    progress.check();
    out.pictures[i] = {sheet_name(list[i].first), draw::sighting_sheet(*list[i].second)};
    progress.advance();
  });
  out.page = sight_page(drawings.page);
  return out;
}

}  // namespace mesograph::report
