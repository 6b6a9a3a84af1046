#pragma once

#include <filesystem>
#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/mesh/model.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// A page that shows a model of a survey, see report/model_page.hpp: with fewer triangles beside where it has many.
/// Throws Error where the disk refuses. Accuracy: photos are taken for pinhole cameras. Cost: a simplification.
void write_model_page(const std::filesystem::path& file, const survey::Survey& survey, const adjust::NamedBlock& named,
                      const mesh::Model& model, Progress& progress);

}  // namespace mesograph::stages
