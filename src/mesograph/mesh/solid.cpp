#include <algorithm>
#include <cstring>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/mesh/solid.hpp>
#include <mesograph/mesh/topology.hpp>
#include <optional>
#include <sstream>

namespace mesograph::mesh {

Solid solid_of(const TriangleMesh& mesh) {
  Solid out;
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& X : mesh.X) box.extend(X);
  const Eigen::Vector3d middle = mesh.X.empty() ? Eigen::Vector3d::Zero().eval() : box.center();
  std::vector<double> share(mesh.X.size(), 0);  // by how much the volume grows where a vertex moves outwards
  double guessed = 0;
  for (const Face& f : mesh.faces) {
    const double area = mesh.area(f);
    out.volume += (mesh.at(f[0]) - middle).dot((mesh.at(f[1]) - middle).cross(mesh.at(f[2]) - middle)) / 6;
    out.area += area;
    if (mesh.guessed(f)) guessed += area;
    for (const std::int32_t v : f) share[static_cast<std::size_t>(v)] += area / 3;
  }
  out.guessed_share = out.area > 0 ? guessed / out.area : 0;
  double variance = 0;
  for (std::size_t v = 0; v < share.size(); ++v)
    if (std::isfinite(mesh.sigma[v])) variance += share[v] * share[v] * mesh.sigma[v] * mesh.sigma[v];
  out.sigma = std::sqrt(variance);
  const Flaws flaws = flaws_of(mesh);
  out.triangles = mesh.faces.size(), out.pieces = flaws.pieces;
  out.border_edges = flaws.border_edges, out.crowded_edges = flaws.crowded_edges;
  return out;
}

namespace {

struct Property {
  std::string name, type, count_type;  ///< count_type: of lists
};
struct Element {
  std::string name;
  std::size_t count = 0;
  std::vector<Property> properties;
};

/// Bytes of a type, by either of its names; 0: there is no such.
std::size_t size_of(const std::string& type) {
  for (const char* one : {"char", "uchar", "int8", "uint8"})
    if (type == one) return 1;
  for (const char* two : {"short", "ushort", "int16", "uint16"})
    if (type == two) return 2;
  for (const char* four : {"int", "uint", "int32", "uint32", "float", "float32"})
    if (type == four) return 4;
  return type == "double" || type == "float64" ? 8 : 0;
}

/// Reads values one after the other, as text or as bytes.
class PlyReader {
 public:
  explicit PlyReader(const std::filesystem::path& file) : name_(file.string()), bytes_(read_file(file)) { read_head(); }
  const std::vector<Element>& elements() const { return elements_; }
  /// What is to be added to coordinates.
  const Eigen::Vector3d& shift() const { return shift_; }
  double value(const std::string& type) {
    if (text_) {
      double out = 0;
      if (!(words_ >> out)) throw cut_off();
      return out;
    }
    std::array<char, 8> b{};
    const std::size_t n = size_of(type);
    if (at_ + n > bytes_.size()) throw cut_off();
    std::memcpy(b.data(), bytes_.data() + at_, n);
    at_ += n;
    if (big_) std::reverse(b.begin(), b.begin() + static_cast<std::ptrdiff_t>(n));
    const auto as = [&](auto sample) {
      std::memcpy(&sample, b.data(), sizeof sample);
      return static_cast<double>(sample);
    };
    if (type == "double" || type == "float64") return as(0.0);
    if (type == "float" || type == "float32") return as(0.0F);
    const bool plain = type[0] == 'u';
    if (n == 1) return plain ? as(std::uint8_t{}) : as(std::int8_t{});
    if (n == 2) return plain ? as(std::uint16_t{}) : as(std::int16_t{});
    return plain ? as(std::uint32_t{}) : as(std::int32_t{});
  }
  Error cut_off() const { return Error("{}: ends before all that its header promises", name_); }
  Error wrong(const std::string& what) const { return Error("{}: is no PLY file that can be read: {}", name_, what); }
  /// No count is believed that the file is too short for: each item takes a byte at least.
  void check(std::size_t count) const {
    if (count > bytes_.size()) throw cut_off();
  }

 private:
  std::string name_, bytes_;
  std::vector<Element> elements_;
  Eigen::Vector3d shift_ = Eigen::Vector3d::Zero();
  std::size_t at_ = 0;
  bool text_ = false, big_ = false;
  std::istringstream words_;

  void read_head() {
    const std::size_t end = bytes_.find("end_header");
    if (bytes_.rfind("ply", 0) != 0 || end == std::string::npos) throw wrong("it does not begin with a header");
    std::istringstream head(bytes_.substr(0, end));
    for (std::string line; std::getline(head, line);) {
      std::istringstream words(line);
      std::string word, first, second, third;
      words >> word >> first >> second >> third;
      if (word == "comment" && first == "add") {  // as write_model says it
        Eigen::Vector3d by;
        std::istringstream numbers(line.substr(line.find("add") + 3));
        if (numbers >> by.x() >> by.y() >> by.z()) shift_ = by;
      } else if (word == "format") {
        text_ = first == "ascii", big_ = first == "binary_big_endian";
        if (!text_ && !big_ && first != "binary_little_endian") throw wrong("its format is '" + first + "'");
      } else if (word == "element") {
        elements_.push_back({first, 0, {}});
        std::istringstream(second) >> elements_.back().count;
      } else if (word == "property" && !elements_.empty()) {
        std::string name;
        words >> name;
        const bool list = first == "list";
        elements_.back().properties.push_back(list ? Property{name, third, second} : Property{second, first, {}});
        const Property& p = elements_.back().properties.back();
        if (size_of(p.type) == 0 || (list && size_of(p.count_type) == 0))
          throw wrong("a property's type is unknown: " + line);
      }
    }
    at_ = bytes_.find('\n', end);
    if (at_ == std::string::npos) throw cut_off();
    if (text_)
      words_.str(bytes_.substr(++at_));
    else
      ++at_;
  }
};

void read_vertices(PlyReader& in, const Element& element, TriangleMesh& mesh) {
  in.check(element.count);
  for (std::size_t i = 0; i < element.count; ++i) {
    Eigen::Vector3d X = Eigen::Vector3d::Constant(std::numeric_limits<double>::quiet_NaN());
    float sigma = std::numeric_limits<float>::quiet_NaN();
    for (const Property& p : element.properties) {
      const double v = in.value(p.type);
      if (p.name == "x" || p.name == "y" || p.name == "z") X[p.name[0] - 'x'] = v;
      if (p.name == "sigma" && v >= 0) sigma = static_cast<float>(v);
    }
    if (!X.allFinite()) throw in.wrong("a vertex has no x, y or z");
    mesh.X.push_back(X), mesh.sigma.push_back(sigma);
  }
}

void read_faces(PlyReader& in, const Element& element, TriangleMesh& mesh) {
  in.check(element.count);
  for (std::size_t i = 0; i < element.count; ++i)
    for (const Property& p : element.properties) {
      if (p.count_type.empty()) {
        in.value(p.type);
        continue;
      }
      const bool corners = p.name == "vertex_indices" || p.name == "vertex_index";
      std::vector<std::int32_t> list;
      const double n = in.value(p.count_type);
      in.check(static_cast<std::size_t>(std::max(0.0, n)));
      for (int k = 0; k < static_cast<int>(n); ++k) {
        const double v = in.value(p.type);
        if (!corners) continue;
        if (!(v >= 0 && v < static_cast<double>(mesh.X.size())))
          throw in.wrong("a face names a vertex that is not there");
        list.push_back(static_cast<std::int32_t>(v));
      }
      for (std::size_t k = 2; k < list.size(); ++k) mesh.faces.push_back({list[0], list[k - 1], list[k]});
    }
}

}  // namespace

TriangleMesh read_ply(const std::filesystem::path& file) {
  PlyReader in(file);
  TriangleMesh out;
  for (const Element& element : in.elements()) {
    if (element.name == "vertex") {
      read_vertices(in, element, out);
    } else if (element.name == "face") {
      read_faces(in, element, out);
    } else {  // what others add is passed over
      in.check(element.count);
      for (std::size_t i = 0; i < element.count; ++i)
        for (const Property& p : element.properties) {
          const double n = p.count_type.empty() ? 1 : in.value(p.count_type);
          for (int k = 0; k < static_cast<int>(n); ++k) in.value(p.type);
        }
    }
  }
  if (out.faces.empty()) throw in.wrong("it has no faces");
  for (Eigen::Vector3d& X : out.X) X += in.shift();
  return out;
}

}  // namespace mesograph::mesh
