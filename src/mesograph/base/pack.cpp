#include <fstream>
#include <mesograph/base/pack.hpp>

namespace mesograph {

bool has_layout(const std::filesystem::path& path, const std::string& layout) {
  const std::string wanted = packed(layout);
  std::string found(wanted.size(), '\0');
  std::ifstream in(path, std::ios::binary);
  return in.read(found.data(), static_cast<std::streamsize>(found.size())) && found == wanted;
}

}  // namespace mesograph
