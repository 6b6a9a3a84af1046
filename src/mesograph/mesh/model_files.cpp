#include <fmt/format.h>

#include <cstring>
#include <fstream>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/mesh/model_files.hpp>

namespace mesograph::mesh {

namespace fs = std::filesystem;

namespace {

/// A file that is written piece by piece and stands under its name once it is whole.
class Growing {
 public:
  explicit Growing(const fs::path& path) : path_(path), scratch_(scratch_path(path)) {
    std::error_code refused;  // opening fails then, in words
    if (path.has_parent_path()) fs::create_directories(path.parent_path(), refused);
    file_.open(scratch_, std::ios::binary);
    if (!file_) throw Error("{}: cannot be written", path.string());
  }
  ~Growing() {
    if (!whole_) drop_scratch(scratch_);
  }
  Growing(const Growing&) = delete;
  Growing& operator=(const Growing&) = delete;

  void text(const std::string& s) {
    held_ += s;
    constexpr std::size_t much = 1u << 20;
    if (held_.size() > much) flush();
  }
  template <typename... Numbers>
  void numbers(const Numbers&... n) {
    (held_.append(reinterpret_cast<const char*>(&n), sizeof n), ...);
    text("");
  }
  void finish() {
    flush();
    file_.close();
    if (!file_) throw Error("{}: cannot be written; is the disk full?", path_.string());
    commit_file(scratch_, path_);
    whole_ = true;
  }

 private:
  fs::path path_, scratch_;
  std::ofstream file_;
  std::string held_;
  bool whole_ = false;

  void flush() {
    file_.write(held_.data(), static_cast<std::streamsize>(held_.size()));
    held_.clear();
    if (!file_) throw Error("{}: cannot be written; is the disk full?", path_.string());
  }
};

std::string words_of_shift(const Model& m) {
  return fmt::format("add {:.3f} {:.3f} {:.3f} to x y z for east, north, height", m.shift.x(), m.shift.y(),
                     m.shift.z());
}

std::string escaped(const std::string& text) {
  std::string out;
  for (const char c : text)
    out += c == '&' ? "&amp;" : c == '<' ? "&lt;" : c == '>' ? "&gt;" : c == '"' ? "&quot;" : std::string(1, c);
  return out;
}

/// Units that LandXML 1.2 has words for; others are written as metres would be, the system's WKT stands beside.
std::string landxml_units(double metres) {
  constexpr double foot = 0.3048, survey_foot = 1200.0 / 3937.0;
  const char* imperial = std::abs(metres - foot) < 1e-9          ? "foot"
                         : std::abs(metres - survey_foot) < 1e-9 ? "USSurveyFoot"
                                                                 : nullptr;
  if (imperial)
    return fmt::format(
        "<Imperial linearUnit=\"{}\" areaUnit=\"squareFoot\" volumeUnit=\"cubicFeet\" temperatureUnit=\"fahrenheit\" "
        "pressureUnit=\"inHG\"/>",
        imperial);
  return "<Metric linearUnit=\"meter\" areaUnit=\"squareMeter\" volumeUnit=\"cubicMeter\" temperatureUnit=\"celsius\" "
         "pressureUnit=\"HPA\"/>";
}

}  // namespace

std::string ending_of(ModelFormat format) { return format == ModelFormat::landxml ? ".xml" : "." + word_of(format); }

std::vector<fs::path> write_model(const fs::path& file, ModelFormat format, const Model& model) {
  switch (format) {
    case ModelFormat::glb:
      write_glb(file, model);
      break;
    case ModelFormat::obj:
      return write_obj(file, model);
    case ModelFormat::ply:
      write_ply(file, model);
      break;
    case ModelFormat::stl:
      write_stl(file, model);
      break;
    case ModelFormat::dxf:
      write_dxf(file, model);
      break;
    case ModelFormat::landxml:
      write_landxml(file, model);
      break;
    case ModelFormat::tiles3d:
      return {};  // of several levels together
  }
  return {file};
}

std::vector<fs::path> write_obj(const fs::path& file, const Model& model) {
  const std::string stem = file.stem().string();
  std::vector<fs::path> out = {file};
  Growing obj(file);
  obj.text(fmt::format("# {}\n# {}\n", model.name, words_of_shift(model)));
  if (!model.texture.empty()) {
    out.push_back(file.parent_path() / (stem + ".mtl"));
    std::string materials;
    for (std::size_t p = 0; p < model.texture.pages.size(); ++p) {
      const std::string picture = fmt::format("{}_{}.jpg", stem, p + 1);
      out.push_back(file.parent_path() / picture);
      photo::write_jpeg(out.back(), model.texture.pages[p], 90);
      materials += fmt::format("newmtl page_{}\nKa 1 1 1\nKd 1 1 1\nKs 0 0 0\nillum 0\nmap_Kd {}\n", p + 1, picture);
    }
    write_file(out[1], materials + "newmtl plain\nKd 0.7 0.7 0.7\nillum 1\n");
    obj.text("mtllib " + stem + ".mtl\n");
  }
  for (const Eigen::Vector3d& X : model.mesh.X) obj.text(fmt::format("v {:.4f} {:.4f} {:.4f}\n", X.x(), X.y(), X.z()));
  const bool pictured = !model.texture.empty();
  if (pictured)
    for (const auto& at : model.texture.at)
      for (const Eigen::Vector2f& t : at) obj.text(fmt::format("vt {:.7f} {:.7f}\n", t.x(), 1 - t.y()));
  // Faces page by page: readers change materials at a price.
  const auto pages = static_cast<std::int32_t>(model.texture.pages.size());
  for (std::int32_t page = -1; page < pages; ++page) {
    bool named = !pictured;
    for (std::size_t f = 0; f < model.mesh.faces.size(); ++f) {
      if (pictured && model.texture.page[f] != page) continue;
      if (!named) obj.text(page < 0 ? "usemtl plain\n" : fmt::format("usemtl page_{}\n", page + 1));
      named = true;
      const Face& v = model.mesh.faces[f];
      if (page < 0)
        obj.text(fmt::format("f {} {} {}\n", v[0] + 1, v[1] + 1, v[2] + 1));
      else
        obj.text(fmt::format("f {}/{} {}/{} {}/{}\n", v[0] + 1, 3 * f + 1, v[1] + 1, 3 * f + 2, v[2] + 1, 3 * f + 3));
    }
  }
  obj.finish();
  return out;
}

void write_ply(const fs::path& file, const Model& model) {
  Growing ply(file);
  ply.text(fmt::format(
      "ply\nformat binary_little_endian 1.0\ncomment {}\ncomment {}\nelement vertex {}\nproperty float x\n"
      "property float y\nproperty float z\nproperty float nx\nproperty float ny\nproperty float nz\n"
      "property uchar red\nproperty uchar green\nproperty uchar blue\nproperty float sigma\nelement face {}\n"
      "property list uchar int vertex_indices\nproperty uchar guess\nend_header\n",
      model.name, words_of_shift(model), model.mesh.X.size(), model.mesh.faces.size()));
  const auto colours = model.colours();
  const auto normals = model.normals();
  for (std::size_t i = 0; i < model.mesh.X.size(); ++i) {
    const Eigen::Vector3f X = model.mesh.X[i].cast<float>();
    const Eigen::Vector3f& n = normals[i];
    const float sigma = std::isnan(model.mesh.sigma[i]) ? -1.0f : model.mesh.sigma[i];
    ply.numbers(X.x(), X.y(), X.z(), n.x(), n.y(), n.z(), colours[i][0], colours[i][1], colours[i][2], sigma);
  }
  for (const Face& f : model.mesh.faces)
    ply.numbers(std::uint8_t{3}, f[0], f[1], f[2], static_cast<std::uint8_t>(model.mesh.guessed(f)));
  ply.finish();
}

void write_stl(const fs::path& file, const Model& model) {
  if (model.mesh.faces.size() > 0xffffffffu) throw Error("{}: too many triangles for an STL", file.string());
  Growing stl(file);
  std::string head = "Mesograph " + words_of_shift(model);
  head.resize(80, ' ');
  stl.text(head);
  stl.numbers(static_cast<std::uint32_t>(model.mesh.faces.size()));
  for (const Face& f : model.mesh.faces) {
    const Eigen::Vector3f n = model.mesh.normal(f).normalized().cast<float>();
    stl.numbers(n.x(), n.y(), n.z());
    for (const std::int32_t v : f) {
      const Eigen::Vector3f X = model.mesh.at(v).cast<float>();
      stl.numbers(X.x(), X.y(), X.z());
    }
    stl.numbers(std::uint16_t{0});
  }
  stl.finish();
}

void write_dxf(const fs::path& file, const Model& model) {
  Growing dxf(file);
  dxf.text(fmt::format("999\n{}\n0\nSECTION\n2\nHEADER\n9\n$ACADVER\n1\nAC1009\n0\nENDSEC\n0\nSECTION\n2\nENTITIES\n",
                       words_of_shift(model)));
  for (const Face& f : model.mesh.faces) {
    dxf.text(fmt::format("0\n3DFACE\n8\n{}\n", model.mesh.guessed(f) ? "GUESS" : "MEASURED"));
    for (int corner = 0; corner < 4; ++corner) {  // a triangle's fourth corner is its third once more
      const Eigen::Vector3d& X = model.mesh.at(f[static_cast<std::size_t>(std::min(corner, 2))]);
      dxf.text(fmt::format("1{0}\n{1:.4f}\n2{0}\n{2:.4f}\n3{0}\n{3:.4f}\n", corner, X.x(), X.y(), X.z()));
    }
  }
  dxf.text("0\nENDSEC\n0\nEOF\n");
  dxf.finish();
}

void write_landxml(const fs::path& file, const Model& model) {
  Growing xml(file);
  xml.text(
      fmt::format("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
                  "<LandXML xmlns=\"http://www.landxml.org/schema/LandXML-1.2\" version=\"1.2\" date=\"2000-01-01\" "
                  "time=\"00:00:00\">\n"
                  "<Units>{}</Units>\n"
                  "<CoordinateSystem desc=\"{}\" ogcWktCode=\"{}\"/>\n"
                  "<Application name=\"Mesograph\"/>\n<Surfaces><Surface name=\"{}\" desc=\"{}\">\n"
                  "<Definition surfType=\"TIN\">\n<Pnts>\n",
                  landxml_units(model.metres.x()), escaped(words_of_shift(model)), escaped(model.wkt),
                  escaped(model.name), escaped(words_of_shift(model))));
  for (std::size_t i = 0; i < model.mesh.X.size(); ++i) {
    const Eigen::Vector3d& X = model.mesh.X[i];
    xml.text(fmt::format("<P id=\"{}\">{:.4f} {:.4f} {:.4f}</P>\n", i + 1, X.y(), X.x(), X.z()));
  }
  xml.text("</Pnts>\n<Faces>\n");
  for (const Face& f : model.mesh.faces) xml.text(fmt::format("<F>{} {} {}</F>\n", f[0] + 1, f[1] + 1, f[2] + 1));
  xml.text("</Faces>\n</Definition>\n</Surface></Surfaces>\n</LandXML>\n");
  xml.finish();
}

}  // namespace mesograph::mesh
