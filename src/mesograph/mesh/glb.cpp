#include <algorithm>
#include <cstring>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/json.hpp>
#include <mesograph/mesh/model_files.hpp>

namespace mesograph::mesh {

namespace {

// Numbers of the standard (glTF 2.0, 5.1.3 and 5.11.5).
constexpr int float_type = 5126, uint_type = 5125, array_buffer = 34962, element_buffer = 34963;

/// The binary chunk, and what the JSON says of it.
class Buffer {
 public:
  Json views = Json::array(), accessors = Json::array();
  std::string bytes;

  int add_view(const void* data, std::size_t size, int target) {
    while (bytes.size() % 4 != 0) bytes.push_back('\0');
    Json view = {{"buffer", 0}, {"byteOffset", bytes.size()}, {"byteLength", size}};
    if (target != 0) view["target"] = target;
    bytes.append(static_cast<const char*>(data), size);
    views.push_back(std::move(view));
    return static_cast<int>(views.size()) - 1;
  }
  template <typename Item>
  int add(const std::vector<Item>& items, const char* type, int component, int target) {
    const int view = add_view(items.data(), items.size() * sizeof(Item), target);
    const std::size_t parts = std::strcmp(type, "SCALAR") == 0 ? 1 : std::strcmp(type, "VEC2") == 0 ? 2 : 3;
    accessors.push_back({{"bufferView", view},
                         {"componentType", component},
                         {"count", items.size() * sizeof(Item) / (4 * parts)},
                         {"type", type}});
    return static_cast<int>(accessors.size()) - 1;
  }
};

/// Faces that share a page and a material, with vertices of their own where the picture is torn.
struct Primitive {
  std::vector<std::int32_t> vertex;  ///< in the mesh
  std::vector<Eigen::Vector2f> at;   ///< u, v
  std::vector<std::uint32_t> corners;
};

/// Primitives by page (-1: no picture).
std::map<std::int32_t, Primitive> primitives_of(const Model& model) {
  std::map<std::int32_t, Primitive> out;
  struct Corner {
    std::int32_t vertex;
    float u, v;
    std::uint32_t index;
    bool operator<(const Corner& o) const {
      return std::tie(vertex, u, v, index) < std::tie(o.vertex, o.u, o.v, o.index);
    }
  };
  std::map<std::int32_t, std::vector<Corner>> corners;
  for (std::size_t f = 0; f < model.mesh.faces.size(); ++f) {
    const std::int32_t page = model.texture.empty() ? -1 : model.texture.page[f];
    std::vector<Corner>& list = corners[page];
    for (std::size_t k = 0; k < 3; ++k) {
      const Eigen::Vector2f at = page < 0 ? Eigen::Vector2f::Zero().eval() : model.texture.at[f][k];
      list.push_back({model.mesh.faces[f][k], at.x(), at.y(), static_cast<std::uint32_t>(list.size())});
    }
  }
  for (auto& [page, list] : corners) {
    Primitive& p = out[page];
    p.corners.resize(list.size());
    std::sort(list.begin(), list.end());
    for (std::size_t i = 0; i < list.size(); ++i) {
      const bool same =
          i > 0 && list[i].vertex == list[i - 1].vertex && list[i].u == list[i - 1].u && list[i].v == list[i - 1].v;
      if (!same) p.vertex.push_back(list[i].vertex), p.at.emplace_back(list[i].u, list[i].v);
      p.corners[list[i].index] = static_cast<std::uint32_t>(p.vertex.size()) - 1;
    }
  }
  return out;
}

Json primitive_json(const Model& model, const Primitive& p, bool pictured, const std::vector<Eigen::Vector3f>& normals,
                    Buffer& buffer) {
  std::vector<Eigen::Vector3f> X, n;
  std::vector<float> sigma;
  Eigen::Vector3f low = Eigen::Vector3f::Constant(std::numeric_limits<float>::infinity()), high = -low;
  for (const std::int32_t v : p.vertex) {
    const auto i = static_cast<std::size_t>(v);
    X.emplace_back(model.mesh.X[i].cast<float>()), n.push_back(normals[i]);
    sigma.push_back(std::isnan(model.mesh.sigma[i]) ? -1.0f : model.mesh.sigma[i]);
    low = low.cwiseMin(X.back()), high = high.cwiseMax(X.back());
  }
  const int position = buffer.add(X, "VEC3", float_type, array_buffer);
  buffer.accessors.back()["min"] = {low.x(), low.y(), low.z()};
  buffer.accessors.back()["max"] = {high.x(), high.y(), high.z()};
  Json attributes = {{"POSITION", position},
                     {"NORMAL", buffer.add(n, "VEC3", float_type, array_buffer)},
                     {"_SIGMA", buffer.add(sigma, "SCALAR", float_type, array_buffer)}};
  if (pictured) attributes["TEXCOORD_0"] = buffer.add(p.at, "VEC2", float_type, array_buffer);
  const int indices = buffer.add(p.corners, "SCALAR", uint_type, element_buffer);
  return {{"attributes", std::move(attributes)}, {"indices", indices}};
}

void append_chunk(std::string& out, const char* type, const std::string& bytes, char padding) {
  const std::size_t padded = (bytes.size() + 3) / 4 * 4;
  const auto length = static_cast<std::uint32_t>(padded);
  out.append(reinterpret_cast<const char*>(&length), 4);
  out.append(type, 4);
  out += bytes;
  out.append(padded - bytes.size(), padding);
}

}  // namespace

std::string glb_bytes(const Model& model, bool placed) {
  Buffer buffer;
  Json primitives = Json::array(), materials = Json::array(), images = Json::array(), textures = Json::array();
  const std::vector<Eigen::Vector3f> normals = model.normals();
  for (const auto& [page, primitive] : primitives_of(model)) {
    Json json = primitive_json(model, primitive, page >= 0, normals, buffer);
    json["material"] = materials.size();
    if (page < 0) {
      materials.push_back(
          {{"name", "plain"},
           {"doubleSided", true},
           {"pbrMetallicRoughness",
            {{"baseColorFactor", {0.3, 0.32, 0.33, 1.0}}, {"metallicFactor", 0}, {"roughnessFactor", 1}}}});
    } else {
      const std::string jpeg = photo::jpeg_bytes(model.texture.pages[static_cast<std::size_t>(page)], 90);
      images.push_back({{"bufferView", buffer.add_view(jpeg.data(), jpeg.size(), 0)}, {"mimeType", "image/jpeg"}});
      textures.push_back({{"source", images.size() - 1}, {"sampler", 0}});
      materials.push_back(
          {{"name", "page " + std::to_string(page + 1)},
           {"doubleSided", true},
           {"extensions", {{"KHR_materials_unlit", Json::object()}}},
           {"pbrMetallicRoughness",
            {{"baseColorTexture", {{"index", textures.size() - 1}}}, {"metallicFactor", 0}, {"roughnessFactor", 1}}}});
    }
    primitives.push_back(std::move(json));
  }
  const Eigen::Vector3d &m = model.metres,
                        shift = placed ? model.shift.cwiseProduct(m) : Eigen::Vector3d::Zero().eval();
  // Columns of a matrix that makes (east, height, -north), m, of (east, north, height), and the shift likewise.
  const Json matrix = {m.x(), 0, 0, 0, 0, 0, -m.y(), 0, 0, m.z(), 0, 0, shift.x(), shift.z(), -shift.y(), 1};
  Json json = {{"asset",
                {{"version", "2.0"},
                 {"generator", "Mesograph mesh"},
                 {"extras", {{"shift", {model.shift.x(), model.shift.y(), model.shift.z()}}, {"crs", model.wkt}}}}},
               {"scene", 0},
               {"scenes", {{{"nodes", {0}}}}},
               {"nodes", {{{"name", model.name}, {"mesh", 0}, {"matrix", matrix}}}},
               {"meshes", {{{"primitives", std::move(primitives)}}}},
               {"materials", std::move(materials)},
               {"accessors", std::move(buffer.accessors)},
               {"bufferViews", std::move(buffer.views)},
               {"buffers", {{{"byteLength", (buffer.bytes.size() + 3) / 4 * 4}}}}};
  if (!images.empty()) {
    json["images"] = std::move(images), json["textures"] = std::move(textures);
    // Linear, with means of smaller pictures; nothing repeats.
    json["samplers"] = {{{"magFilter", 9729}, {"minFilter", 9987}, {"wrapS", 33071}, {"wrapT", 33071}}};
    json["extensionsUsed"] = {"KHR_materials_unlit"};
  }
  const std::string text = json.dump();
  constexpr std::size_t head = 12, chunk_head = 8;
  const std::size_t whole = head + 2 * chunk_head + (text.size() + 3) / 4 * 4 + (buffer.bytes.size() + 3) / 4 * 4;
  if (whole > 0xffffffffu)
    throw Error("mesh: a model of {:.1f} GB is too large for one .glb; ask for fewer --triangles or smaller --page",
                static_cast<double>(whole) / 1e9);
  std::string out = "glTF";
  for (const std::uint32_t n : {2u, static_cast<std::uint32_t>(whole)})
    out.append(reinterpret_cast<const char*>(&n), 4);
  append_chunk(out, "JSON", text, ' ');
  append_chunk(out, "BIN\0", buffer.bytes, '\0');
  return out;
}

void write_glb(const std::filesystem::path& file, const Model& model) { write_file(file, glb_bytes(model)); }

}  // namespace mesograph::mesh
