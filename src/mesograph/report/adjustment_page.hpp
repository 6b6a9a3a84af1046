#pragma once

#include <mesograph/report/material.hpp>
#include <mesograph/report/page.hpp>

namespace mesograph::report {

/// The report on an adjustment: verdict, what was tested, maps, residuals, cameras, tables. Every figure is of the
/// material, rounded to the decimals shown. Cost: the accuracy maps, some thousand predictions.
/// Source: of the accuracy statement, ASPRS Positional Accuracy Standards, edition 2 (2023), section 7.
Page adjustment_page(const Material& source);

}  // namespace mesograph::report
