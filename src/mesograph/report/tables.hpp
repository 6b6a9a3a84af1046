#pragma once

#include <mesograph/report/material.hpp>
#include <mesograph/report/page.hpp>

namespace mesograph::report {

/// A number with so many decimals; "-" where it is not known. With a sign where asked.
std::string fixed(double value, int decimals);
std::string signed_fixed(double value, int decimals);

/// Tables of the page: of points, of cameras, of all else; and this adjustment beside the one that
/// `source.other` holds; none where that is empty.
std::vector<TableBlock> accuracy_tables(const Material& source);
std::vector<TableBlock> camera_tables(const Material& source);
std::vector<TableBlock> detail_tables(const Material& source);
std::vector<TableBlock> comparison_tables(const Material& source);

}  // namespace mesograph::report
