#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/stages/photo_figures.hpp>

namespace mesograph::stages {

using namespace survey;

namespace fs = std::filesystem;

void draw_photo_map(const Survey& survey, const std::vector<photo::FlightPhoto>& photos, const photo::Flight& flight,
                    const photo::Coverage& coverage, const std::vector<std::string>& sorties) {
  draw::PhotoMapData data;
  data.sorties = sorties;
  // Metres from the south-west corner: before orientation there is no better frame.
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!(flight.footprints[i].radius > 0)) continue;
    data.stations.push_back({photos[i].at - coverage.low, static_cast<std::size_t>(photos[i].sortie)});
    std::vector<Eigen::Vector2d> corners;
    for (const Eigen::Vector2d& c : flight.footprints[i].corners) corners.push_back(c - coverage.low);
    data.footprints.push_back(corners);
  }
  data.overlap = {Eigen::Vector2d::Zero(), coverage.cell, coverage.columns, coverage.rows, coverage.counts};
  write_file(survey.results() / "figures" / "photos.png", draw::photo_map(data));
}

void draw_screened(const Survey& survey, const PhotoTable& table) {
  constexpr std::size_t most = 40;
  const fs::path file = survey.results() / "figures" / "screened.png";
  std::vector<draw::ContactPhoto> sheet;
  std::size_t more = 0;
  for (const Photo& p : table.photos) {
    if (p.takes_part()) continue;
    if (sheet.size() == most) {
      ++more;
      continue;
    }
    draw::ContactPhoto entry{p.image, photo::screening_words(*p.screened_out), {}};
    try {
      const int halvings = static_cast<int>(std::ceil(std::log2(std::max(1.0, std::max(p.width, p.height) / 400.0))));
      entry.picture = photo::read_rgb(p.path, halvings, p.tone);
    } catch (const Error&) {
      // An unreadable photo is on the sheet because it is unreadable.
    }
    sheet.push_back(std::move(entry));
  }
  std::error_code missing;
  if (sheet.empty())
    fs::remove(file, missing);
  else
    write_file(file, draw::contact_sheet(sheet, more));
}

}  // namespace mesograph::stages
