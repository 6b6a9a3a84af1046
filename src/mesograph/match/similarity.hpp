#pragma once

#include <cstdint>
#include <mesograph/match/pairs.hpp>
#include <vector>

namespace mesograph::match {

/// The words of a survey's texture: centres of clusters of its descriptors.
struct Vocabulary {
  int words = 0;
  std::vector<float> centre;  ///< words rows of keypoint::descriptor_size
};

/// Clusters descriptors (rows of keypoint::descriptor_size bytes) by Lloyd's rounds from evenly taken rows: the same
/// rows give the same words. Fewer rows than words: as many words as rows.
Vocabulary learn_words(const std::vector<std::uint8_t>& rows, int words = 64, int rounds = 8);

/// What a photo shows, as one vector of length 1: for every word the sum of its descriptors' differences from it, each
/// sum scaled to length 1, so that one repeated pattern does not outweigh the rest. Photos of the same ground have a
/// large dot product, whatever their turn and scale.
/// Source: Jegou et al. (2010), Aggregating local descriptors into a compact image representation, CVPR; Arandjelovic &
/// Zisserman (2013), All about VLAD, CVPR.
/// Cost: descriptors times words.
std::vector<float> signature(const Vocabulary& vocabulary, const std::uint8_t* rows, std::size_t count);

struct SimilarOptions {
  int partners = 20;           ///< of each photo: the most similar ones
  std::size_t all_below = 60;  ///< up to so many photos every pair is tried
};

/// Pairs of each photo in `asked` with the photos most similar to it, and what joins the parts that leaves. Pairs grow
/// linearly with the photos asked for; comparing grows with their product with all, at some ten million photo pairs a
/// minute.
Pairs similar_pairs(const std::vector<std::vector<float>>& signatures, const std::vector<int>& asked,
                    const SimilarOptions& options = {});

}  // namespace mesograph::match
