#pragma once

#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/stages/mosaic_request.hpp>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// Lays the photos of an adjusted block onto a surface: mosaic.tif, source.tif, seams.gpkg, mosaic.png, map tiles where
/// they are wanted. Polygons that people give are kept in inputs/ (seams, avoid, water.geojson, a feature a line); only
/// tiles that they touch are made anew. Throws Error where there is no surface, a photo is gone, or the disk refuses.
/// Accuracy: that of block and surface, see source.tif. Cost: measured in docs/methods.md; memory: the surface, 40 MB
/// for every hundred million cells, a tile at work, and 1.1 GB at most of photos and what they see.
/// `run` makes it anew where what it was made from differs, see mosaic_fingerprint.
Mosaicked make_mosaic(survey::Survey& survey, const MosaicRequest& request, Progress& progress);

/// What a mosaic follows from: block, photos, surface, polygons and options.
std::string mosaic_fingerprint(const survey::Survey& survey, const MosaicRequest& request = {});

/// Lays single photos onto the surface, each as a file of its own in the folder `out`, empty where it does not see the
/// surface. Throws Error likewise, and where a photo is not in the block.
std::vector<std::string> rectify_photos(const survey::Survey& survey, const MosaicRequest& request, Progress& progress);

}  // namespace mesograph::stages
