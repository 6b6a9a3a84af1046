#pragma once

#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/section.hpp>
#include <mesograph/draw/cloud_view.hpp>
#include <string>
#include <vector>

namespace mesograph::draw {

struct CloudSheetOptions {
  CloudView::Options view;  ///< width of the whole; its eye, units and spacing are set here
  std::vector<Eye> eyes = {Eye{}};
  std::string title;  ///< above it; empty: none
};

/// Pictures of a whole file from several places on one sheet, as PNG bytes; strays (cloud::extent_of) are left out and
/// said. Units, spacing and scale are the file's own. Accuracy: points to a pixel. Cost: a few readings of the
/// file, however many views, one more for densities; memory of the views.
std::string cloud_sheet(cloud::LasReader& file, const cloud::Description& described, const CloudSheetOptions& options,
                        Progress& progress);
/// The same, to be put into a page.
Drawing cloud_drawing(cloud::LasReader& file, const cloud::Description& described, const CloudSheetOptions& options,
                      Progress& progress);
/// One picture, likewise.
std::string cloud_figure(cloud::LasReader& file, const cloud::Description& described, const CloudView::Options& options,
                         Progress& progress);

/// Views from place to place, `frames` of them, evenly along the way; from one place once around. Azimuths turn the
/// shorter way.
std::vector<Eye> flight_of(const std::vector<Eye>& places, int frames);

/// Pictures of one size and scale along a flight, each given to `keep` with its number from 0. Drawn on all threads, a
/// reading of the file for every dozen.
void fly(cloud::LasReader& file, const cloud::Description& described, CloudView::Options options,
         const std::vector<Eye>& flight, const std::function<void(std::size_t, const std::string&)>& keep,
         Progress& progress);

struct SectionOptions {
  Shown shown = Shown::colour;
  double exaggeration = 1;  ///< heights against lengths
  std::string title;
  std::string unit = "m";
};
/// Profile of a band of points, heights over lengths, as PNG bytes.
std::string section_figure(const std::vector<cloud::SectionPoint>& points, double length,
                           const SectionOptions& options);

}  // namespace mesograph::draw
