#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/copc.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/cloud/laz.hpp>
#include <mesograph/cloud/tiles.hpp>

namespace mesograph::cloud {

/// What LasReader does where a cloud is several files: one of them is open at a time.

void LasReader::open_several() {
  for (std::size_t i = 0; i < all_files_.size(); ++i) {
    LasReader one(all_files_[i]);
    const LasHeader& h = one.header();
    for (const std::string& text : one.oddities()) oddities_.push_back(all_files_[i].filename().string() + ": " + text);
    if (i == 0) {
      header_ = h;
      continue;
    }
    if (const std::string differs = difference(header_, h); !differs.empty())
      throw Error("{}: {}, as {} has it; only files of one kind are one cloud", all_files_[i].string(), differs,
                  all_files_.front().string());
    if (h.points > 0) header_.box = header_.points > 0 ? header_.box.merged(h.box) : h.box;
    header_.points += h.points;
    for (std::size_t k = 0; k < h.by_return.size(); ++k) header_.by_return[k] += h.by_return[k];
  }
  files_ = all_files_, to_read_ = header_.points;
}

bool LasReader::only_of_several(const Eigen::AlignedBox2d& plan, double spacing) {
  files_.clear(), to_read_ = 0;
  bool fewer = false;
  for (const std::filesystem::path& path : all_files_) {
    LasReader one(path);
    // Others' bounds may be wrong, and points would be lost without a word.
    const Eigen::AlignedBox3d& box = one.header().box;
    const Eigen::AlignedBox2d there(Eigen::Vector2d(box.min().head<2>()), Eigen::Vector2d(box.max().head<2>()));
    if (!plan.isEmpty() && one.header().software == our_software && !plan.intersects(there)) {
      fewer = true;
      continue;
    }
    fewer = one.only(plan, spacing) || fewer;
    files_.push_back(path), to_read_ += one.to_read();
  }
  only_plan_ = plan, only_spacing_ = spacing;
  rewind();
  return fewer;
}

LasPoints LasReader::next_of_several(std::size_t most) {
  for (; file_at_ < files_.size(); ++file_at_, open_.reset()) {
    if (!open_) {
      open_ = std::make_unique<LasReader>(files_[file_at_]);
      if (!only_plan_.isEmpty() || only_spacing_ > 0) open_->only(only_plan_, only_spacing_);
    }
    LasPoints out = open_->next(most);
    if (out.size() == 0) continue;
    try {
      bring_to(open_->header(), header_, out.bytes);
    } catch (const OutOfRange&) {
      throw Error("{}: lies too far from {} to be one cloud with it; bring both to one scale and offset",
                  files_[file_at_].string(), all_files_.front().string());
    }
    out.header = &header_;
    return out;
  }
  return {&header_, {}};
}

}  // namespace mesograph::cloud
