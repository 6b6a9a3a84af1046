#pragma once

#include <gdal_priv.h>

#include <memory>

namespace mesograph::surface {

struct CloseDataset {
  void operator()(GDALDataset* dataset) const { GDALClose(dataset); }
};
/// A dataset of GDAL's that is closed when it goes. It computes nothing: no accuracy or cost to state.
using Dataset = std::unique_ptr<GDALDataset, CloseDataset>;

}  // namespace mesograph::surface
