#pragma once

#include <array>
#include <filesystem>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mesh/model.hpp>
#include <string_view>

namespace mesograph::mesh {

/// Writers of models. All write under another name first and put the file in place once it is whole; throw Error where
/// the disk refuses or the model is too large for the format. Coordinates are the survey's less the model's shift; each
/// file says so where its format has a place for it. Cost: a pass over the model, memory for what a format repeats.

/// Formats of models; dxf and landxml hold surfaces over the plan, without pictures; tiles3d is a folder of all levels
/// of detail, see stages/mesh_tiles.
enum class ModelFormat { glb, obj, ply, stl, dxf, landxml, tiles3d };
constexpr std::array<std::string_view, 7> words(ModelFormat) {
  return {"glb", "obj", "ply", "stl", "dxf", "landxml", "tiles3d"};
}
/// What is taken off coordinates.
struct Shift {
  enum class Kind { automatic, none, given } kind = Kind::automatic;  ///< automatic: whole hundreds near the middle
  Eigen::Vector3d by = Eigen::Vector3d::Zero();
};
/// What its files end with.
std::string ending_of(ModelFormat format);

/// Writes a model; gives the files, the one that others are named in first.
std::vector<std::filesystem::path> write_model(const std::filesystem::path& file, ModelFormat format,
                                               const Model& model);

/// glTF 2.0, binary: one file with its pictures (JPEG). Vertices are east, north, height less the shift; the root node
/// turns them to the format's y upwards and carries the shift, in double precision, so that single precision holds only
/// small numbers. Attributes _SIGMA (m, NaN written as -1) and material "guess" for faces nobody measured.
/// Source: Khronos Group, glTF 2.0 (2021); KHR_materials_unlit.
void write_glb(const std::filesystem::path& file, const Model& model);
/// The same as bytes; `placed`: the root node carries the shift as well.
std::string glb_bytes(const Model& model, bool placed = true);

/// Wavefront OBJ with a material file and its pictures beside it.
std::vector<std::filesystem::path> write_obj(const std::filesystem::path& file, const Model& model);
/// PLY, binary, little endian: x, y, z, normals, colours, sigma (-1: a guess) of vertices; guess (0, 1) of faces.
void write_ply(const std::filesystem::path& file, const Model& model);
/// STL, binary: triangles alone.
void write_stl(const std::filesystem::path& file, const Model& model);
/// DXF (AutoCAD R12 entities): a 3DFACE each, layers MEASURED and GUESS.
void write_dxf(const std::filesystem::path& file, const Model& model);
/// LandXML 1.2: one Surface of type TIN, points as north, east, height.
void write_landxml(const std::filesystem::path& file, const Model& model);

}  // namespace mesograph::mesh
