#include <algorithm>
#include <cmath>
#include <mesograph/base/threads.hpp>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/similarity.hpp>
#include <set>

namespace mesograph::match {

namespace {

constexpr int size = keypoint::descriptor_size;

/// Eight running sums, added in a fixed order: the same on every instruction set.
MESOGRAPH_WIDE float dot(const float* __restrict a, const float* __restrict b, std::size_t n) {
  float sum[8] = {};
  for (std::size_t i = 0; i + 8 <= n; i += 8)
    for (std::size_t k = 0; k < 8; ++k) sum[k] += a[i + k] * b[i + k];
  return ((sum[0] + sum[4]) + (sum[1] + sum[5])) + ((sum[2] + sum[6]) + (sum[3] + sum[7]));
}

void widen(const std::uint8_t* row, float* out) {
  for (int k = 0; k < size; ++k) out[k] = static_cast<float>(row[k]);
}

/// Word nearest to a descriptor; half_norms: |centre|^2 / 2.
int word_of(const Vocabulary& v, const std::vector<float>& half_norms, const float* row) {
  int best = 0;
  float score = -1e30f;
  for (int w = 0; w < v.words; ++w) {
    const float s = dot(row, &v.centre[static_cast<std::size_t>(w) * size], size) - half_norms[w];
    if (s > score) score = s, best = w;
  }
  return best;
}

std::vector<float> half_norms(const Vocabulary& v) {
  std::vector<float> out(v.words);
  for (int w = 0; w < v.words; ++w) {
    const float* c = &v.centre[static_cast<std::size_t>(w) * size];
    out[w] = 0.5f * dot(c, c, size);
  }
  return out;
}

}  // namespace

Vocabulary learn_words(const std::vector<std::uint8_t>& rows, int words, int rounds) {
  const std::size_t n = rows.size() / size;
  Vocabulary v;
  v.words = static_cast<int>(std::min<std::size_t>(words, n));
  v.centre.resize(static_cast<std::size_t>(v.words) * size);
  // Starts evenly through the list, which is by photo: no chance is needed, and no two runs differ.
  for (int w = 0; w < v.words; ++w) widen(&rows[n * w / v.words * size], &v.centre[static_cast<std::size_t>(w) * size]);
  std::vector<int> word(n);
  for (int round = 0; round < rounds; ++round) {
    const std::vector<float> norms = half_norms(v);
    parallel_for(n, 256, [&](std::size_t i) {
      float row[size];
      widen(&rows[i * size], row);
      word[i] = word_of(v, norms, row);
    });
    std::vector<std::int64_t> sum(v.centre.size(), 0), count(v.words, 0);  // whole numbers: any order gives the same
    for (std::size_t i = 0; i < n; ++i) {
      ++count[word[i]];
      for (int k = 0; k < size; ++k) sum[static_cast<std::size_t>(word[i]) * size + k] += rows[i * size + k];
    }
    for (std::size_t k = 0; k < sum.size(); ++k)
      if (count[k / size] > 0) v.centre[k] = static_cast<float>(sum[k]) / static_cast<float>(count[k / size]);
  }
  return v;
}

std::vector<float> signature(const Vocabulary& vocabulary, const std::uint8_t* rows, std::size_t count) {
  std::vector<float> out(vocabulary.centre.size(), 0.0f);
  const std::vector<float> norms = half_norms(vocabulary);
  float row[size];
  for (std::size_t i = 0; i < count; ++i) {
    widen(rows + i * size, row);
    const std::size_t at = static_cast<std::size_t>(word_of(vocabulary, norms, row)) * size;
    // Sums of differences to the word, not counts (Jégou et al. 2010): few words suffice, and a photo is one short
    // vector.
    for (int k = 0; k < size; ++k) out[at + k] += row[k] - vocabulary.centre[at + k];
  }
  int used = 0;
  for (int w = 0; w < vocabulary.words; ++w) {
    float* part = &out[static_cast<std::size_t>(w) * size];
    // Each word by itself, then all: else one texture that repeats, such as a field, would speak for the photo.
    const float length = std::sqrt(dot(part, part, size));
    if (length <= 0) continue;
    ++used;
    for (int k = 0; k < size; ++k) part[k] /= length;
  }
  for (float& f : out) f /= std::sqrt(static_cast<float>(std::max(1, used)));
  return out;
}

Pairs similar_pairs(const std::vector<std::vector<float>>& signatures, const std::vector<int>& asked,
                    const SimilarOptions& options) {
  const std::size_t n = signatures.size();
  std::vector<std::vector<std::pair<float, int>>> best(asked.size());
  const std::size_t partners = n <= options.all_below ? n : static_cast<std::size_t>(options.partners);
  parallel_for(asked.size(), [&](std::size_t a) {
    const std::vector<float>& own = signatures[asked[a]];
    std::vector<std::pair<float, int>> all;
    for (std::size_t j = 0; j < n; ++j)
      if (static_cast<int>(j) != asked[a]) all.emplace_back(-dot(own.data(), signatures[j].data(), own.size()), j);
    const std::size_t keep = std::min(partners, all.size());
    std::partial_sort(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(keep), all.end());
    all.resize(keep);
    best[a] = std::move(all);
  });
  std::set<std::pair<int, int>> pairs;
  for (std::size_t a = 0; a < asked.size(); ++a)
    for (const auto& [distance, j] : best[a]) pairs.emplace(std::min(asked[a], j), std::max(asked[a], j));
  // Join what is apart by the most similar photos of different parts, one pair a part and round.
  std::vector<int> members(n);
  for (std::size_t i = 0; i < n; ++i) members[i] = static_cast<int>(i);
  while (asked.size() == n && n > 1) {
    const std::vector<int> part = parts_of(members, {pairs.begin(), pairs.end()}, n);
    const int parts = 1 + *std::max_element(part.begin(), part.end());
    // Every part gets a bridge in each round: the number of parts halves at least.
    if (parts == 1) break;
    std::vector<std::tuple<float, int, int>> bridge(parts, {1e30f, -1, -1});
    for (std::size_t i = 0; i < n; ++i)
      for (std::size_t j = 0; j < n; ++j)
        if (part[i] != part[j])
          bridge[part[i]] =
              std::min(bridge[part[i]], {-dot(signatures[i].data(), signatures[j].data(), signatures[i].size()),
                                         static_cast<int>(i), static_cast<int>(j)});
    for (const auto& [distance, i, j] : bridge) pairs.emplace(std::min(i, j), std::max(i, j));
  }
  return {pairs.begin(), pairs.end()};
}

}  // namespace mesograph::match
