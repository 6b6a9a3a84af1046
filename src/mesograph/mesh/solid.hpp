#pragma once

#include <filesystem>
#include <mesograph/mesh/triangle_mesh.hpp>

namespace mesograph::mesh {

/// What a surface encloses and how sound it is. Lengths in the unit of its coordinates.
struct Solid {
  double volume = 0;  ///< of a closed surface; of an open one it means nothing
  double area = 0;
  double guessed_share = 0;  ///< of the area: nobody measured it
  /// Standard deviation of the volume by what was measured, vertices taken for independent: each moves the volume by
  /// its share of the area. What shifts or turns the whole body changes nothing; a scale wrong by p changes it by 3 p.
  double sigma = 0;
  std::size_t triangles = 0, pieces = 0, border_edges = 0, crowded_edges = 0;

  bool closed() const { return border_edges == 0 && crowded_edges == 0; }
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("volume", s.volume), visit("area", s.area), visit("guessed_share", s.guessed_share);
    visit("sigma", s.sigma), visit("triangles", s.triangles), visit("pieces", s.pieces);
    visit("border_edges", s.border_edges), visit("crowded_edges", s.crowded_edges);
  }
};

/// By the divergence theorem, about the middle of the surface so that large coordinates cost no digits. Exact to
/// roundings. Cost: a pass over the faces and their edges.
Solid solid_of(const TriangleMesh& mesh);

/// Triangles of a PLY file (ascii or binary, either byte order), polygons cut into fans; property `sigma` of vertices
/// where there is one, negative: a guess; without one all are guesses of nobody knows what: sigma NaN, and no face is
/// counted as measured. What was taken off coordinates, as our own files say it, is added again. Throws Error where it
/// is no PLY, cut off, or names vertices that are not there. Source: Turk (1994), The PLY polygon file format.
TriangleMesh read_ply(const std::filesystem::path& file);

}  // namespace mesograph::mesh
