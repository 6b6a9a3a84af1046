#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/draw/canvas.hpp>
#include <string>
#include <vector>

namespace mesograph::report {

struct Figure {
  std::string title, caption;
  std::string name;  ///< of its file in figures/, without extension
  draw::Drawing drawing;
};
/// Cells as text; the first column is left-aligned, the others right.
struct TableBlock {
  std::string title, note;
  std::vector<std::string> header;
  std::vector<std::vector<std::string>> rows;
  bool last_row_is_summary = false;
};
struct KeyFigure {
  std::string value, label;
};
/// A part of a page that is not about an adjustment: tables, figures as wide as the page, and figures side by side.
struct Section {
  std::string title;
  std::vector<TableBlock> tables;
  std::vector<Figure> wide, pairs;
};
struct Page {
  std::string title, subtitle;
  std::vector<std::string> verdict;  ///< sentences that are read first
  std::vector<KeyFigure> key_figures;
  std::vector<std::string> notes;  ///< sentences that a reader must not miss
  std::vector<Figure> maps;
  std::vector<TableBlock> comparison;  ///< with another adjustment; mostly empty
  std::vector<Figure> points;          ///< errors of control and checks
  std::vector<TableBlock> accuracy;
  std::vector<Section> products;  ///< what was made of the block
  std::vector<Figure> residuals;
  std::vector<Figure> cameras;
  std::vector<TableBlock> calibration;
  std::vector<TableBlock> details;
  std::vector<Section> sections;  ///< where there are any, they stand in place of all from `maps` on
};

/// The page as one HTML file that needs nothing else; all texts escaped. Prints to A4.
std::string page_html(const Page& page);

/// Prints an HTML file as PDF by WeasyPrint. False where that program is not installed, or fails; then there is no PDF.
/// Throws Cancelled where the user interrupts, and ends that program.
bool print_pdf(const std::filesystem::path& html, const std::filesystem::path& pdf, const Progress& progress);

}  // namespace mesograph::report
