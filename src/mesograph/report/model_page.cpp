#include <kainjow/mustache.hpp>
#include <mesograph/report/base64.hpp>
#include <mesograph/report/model_page.hpp>
#include <mesograph/report/model_page_text.hpp>
#include <nlohmann/json.hpp>

namespace mesograph::report {

namespace {

template <typename Item>
std::string bytes_of(const std::vector<Item>& items) {
  return base64(std::string(reinterpret_cast<const char*>(items.data()), items.size() * sizeof(Item)));
}

std::string json_of_page(const ModelPage& page) {
  using Json = nlohmann::ordered_json;
  const auto three = [](const Eigen::Vector3d& v) { return Json{v.x(), v.y(), v.z()}; };
  Json out = {{"title", page.title},
              {"crs", page.crs},
              {"unit", page.unit},
              {"shift", three(page.shift)},
              {"plan_metres", page.plan_metres},
              {"height_metres", page.height_metres},
              {"photos", Json::array()}};
  for (const ModelPage::Photo& p : page.photos)
    out["photos"].push_back({{"image", p.image},
                             {"at", three(p.C)},
                             {"right", three(p.model_from_camera.col(0))},
                             {"up", three(p.model_from_camera.col(1))},
                             {"back", three(p.model_from_camera.col(2))},
                             {"c", p.c},
                             {"x0", p.x0},
                             {"y0", p.y0},
                             {"width", p.width},
                             {"height", p.height}});
  // A name may hold "</script>": within JSON every '<' may be written as an escape.
  std::string safe;
  for (const char c : out.dump(-1, ' ', false, Json::error_handler_t::replace))
    safe += c == '<' ? "\\u003c" : std::string(1, c);
  return safe;
}

}  // namespace

std::string model_page(const ModelPage& page) {
  kainjow::mustache::mustache form(model_page_text);
  kainjow::mustache::data data;
  data.set("title", page.title);
  data.set("three", three_js_text);
  data.set("data", json_of_page(page));
  data.set("glb", base64(page.glb));
  data.set("coarse_vertices", bytes_of(page.coarse_vertices));
  data.set("coarse_colours", bytes_of(page.coarse_colours));
  data.set("coarse_faces", bytes_of(page.coarse_faces));
  return form.render(data);
}

}  // namespace mesograph::report
