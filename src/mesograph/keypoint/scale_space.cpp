#include <algorithm>
#include <cmath>
#include <mesograph/keypoint/scale_space.hpp>

namespace mesograph::keypoint {

namespace {

std::vector<float> gaussian_kernel(double sigma) {
  const int reach = static_cast<int>(std::ceil(4 * sigma));
  std::vector<float> kernel(reach + 1);
  double sum = 0;
  for (int i = 0; i <= reach; ++i) sum += (i == 0 ? 1 : 2) * std::exp(-0.5 * i * i / (sigma * sigma));
  for (int i = 0; i <= reach; ++i) kernel[i] = static_cast<float>(std::exp(-0.5 * i * i / (sigma * sigma)) / sum);
  return kernel;
}

}  // namespace

photo::Grey blurred(const photo::Grey& image, double sigma) {
  const std::vector<float> kernel = gaussian_kernel(sigma);
  const int reach = static_cast<int>(kernel.size()) - 1, w = image.width, h = image.height;
  photo::Grey across(w, h), out(w, h);
  std::vector<float> padded(w + 2 * reach);
  for (int row = 0; row < h; ++row) {
    const float* in = &image.data[static_cast<std::size_t>(row) * w];
    std::fill_n(padded.begin(), reach, in[0]);
    std::copy_n(in, w, padded.begin() + reach);
    std::fill_n(padded.begin() + reach + w, reach, in[w - 1]);
    float* to = &across.data[static_cast<std::size_t>(row) * w];
    const float* middle = padded.data() + reach;
    for (int col = 0; col < w; ++col) to[col] = kernel[0] * middle[col];
    for (int i = 1; i <= reach; ++i)
      for (int col = 0; col < w; ++col) to[col] += kernel[i] * (middle[col - i] + middle[col + i]);
  }
  for (int row = 0; row < h; ++row) {
    float* to = &out.data[static_cast<std::size_t>(row) * w];
    const float* in = &across.data[static_cast<std::size_t>(row) * w];
    for (int col = 0; col < w; ++col) to[col] = kernel[0] * in[col];
    for (int i = 1; i <= reach; ++i) {
      const float* above = &across.data[static_cast<std::size_t>(std::max(0, row - i)) * w];
      const float* below = &across.data[static_cast<std::size_t>(std::min(h - 1, row + i)) * w];
      for (int col = 0; col < w; ++col) to[col] += kernel[i] * (above[col] + below[col]);
    }
  }
  return out;
}

Octave build_octave(photo::Grey first) {
  Octave octave;
  octave.gaussian.push_back(std::move(first));
  for (int i = 1; i < scales_per_octave + 3; ++i) {
    const double before = base_sigma * std::pow(2.0, (i - 1.0) / scales_per_octave);
    const double step = before * std::sqrt(std::pow(2.0, 2.0 / scales_per_octave) - 1.0);
    octave.gaussian.push_back(blurred(octave.gaussian.back(), step));
    const photo::Grey &low = octave.gaussian[i - 1], &high = octave.gaussian[i];
    photo::Grey difference(low.width, low.height);
    for (std::size_t n = 0; n < low.data.size(); ++n) difference.data[n] = high.data[n] - low.data[n];
    octave.difference.push_back(std::move(difference));
  }
  return octave;
}

photo::Grey halved(const photo::Grey& image) {
  photo::Grey out(image.width / 2, image.height / 2);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col) out.at(col, row) = image.at(2 * col, 2 * row);
  return out;
}

}  // namespace mesograph::keypoint
