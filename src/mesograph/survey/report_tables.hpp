#pragma once

#include <mesograph/survey/report_figures.hpp>

namespace mesograph::survey {

/// A number of a summary; NaN where it is null.
double value_of(const nlohmann::ordered_json& value);
/// It times a factor, with so many decimals; "-" where it is null.
std::string fixed(const nlohmann::ordered_json& value, int decimals, double factor = 1.0);

/// Tables of the page: of points, of cameras, of all else; and this adjustment beside one kept by adjust --as (`name`
/// empty: none). Throws Error where none was kept under that name.
std::vector<report::TableBlock> accuracy_tables(const Material& source);
std::vector<report::TableBlock> camera_tables(const Material& source);
std::vector<report::TableBlock> detail_tables(const Material& source);
std::vector<report::TableBlock> comparison_tables(const Material& source, const std::string& name);

}  // namespace mesograph::survey
