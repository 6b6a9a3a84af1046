#include <unistd.h>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/bucket_file.hpp>

namespace mesograph::cloud {

NamelessFile::NamelessFile(std::filesystem::path folder, bool in_memory)
    : folder_(std::move(folder)), file_(in_memory ? -1 : open_nameless(folder_)) {}

NamelessFile::~NamelessFile() {
  if (file_ >= 0) ::close(file_);
}

std::uint64_t NamelessFile::put(const std::string& bytes) {
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t n = ::pwrite(file_, bytes.data() + done, bytes.size() - done, static_cast<off_t>(end_ + done));
    if (n <= 0) throw Error("{}: cannot be written; check space and permissions", folder_.string());
    done += static_cast<std::size_t>(n);
  }
  const std::uint64_t at = end_;
  end_ += bytes.size();
  return at;
}

void NamelessFile::get(char* bytes, std::size_t size, std::uint64_t at) const {
  for (std::size_t done = 0; done < size;) {
    const ssize_t n = ::pread(file_, bytes + done, size - done, static_cast<off_t>(at + done));
    if (n <= 0) throw Error("{}: what waited there cannot be read back; check the disk", folder_.string());
    done += static_cast<std::size_t>(n);
  }
}

}  // namespace mesograph::cloud
