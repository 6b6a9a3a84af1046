#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/mesh/choose_views.hpp>
#include <mesograph/mesh/level_seams.hpp>
#include <mesograph/mosaic/image_lattice.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/balance_photos.hpp>
#include <mesograph/stages/mesh_texture.hpp>
#include <mesograph/stages/sharpness.hpp>
#include <set>

namespace mesograph::stages {

using survey::Photo;

namespace {

class TextureJob {
 public:
  TextureJob(const mesh::TriangleMesh& mesh, const adjust::NamedBlock& named, const std::vector<const Photo*>& photos,
             Progress& progress)
      : mesh_(mesh),
        block_(named.block),
        photos_(photos),
        progress_(progress),
        sharpness_(relative_sharpness(photos)),
        colours_(balance_photos(named.block, photos, progress)) {
    std::vector<double> z;
    for (std::size_t v = 0; v < mesh.X.size(); v += 1 + mesh.X.size() / 10000) z.push_back(mesh.X[v].z());
    const double ground = z.empty() ? 0 : median(std::move(z));
    images_.resize(photos.size());
    parallel_for(photos.size(), [&](std::size_t i) {
      const adjust::Station& s = block_.stations[i];
      if (!s.oriented || photos_[i]->path.empty()) return;
      images_[i] = std::make_unique<mosaic::ImageLattice>(block_, static_cast<int>(i),
                                                          std::max(1.0, std::abs(s.C.z() - ground)));
    });
  }

  mesh::FaceViews find_views() {
    std::vector<mesh::PhotoViews> views(photos_.size());
    progress_.start("finding what photos see", photos_.size());
    parallel_for(photos_.size(), [&](std::size_t i) {
      progress_.check();
      if (images_[i]) views[i] = mesh::views_of(mesh_, shown_in(i));
      progress_.advance();
    });
    mesh::FaceViews out(mesh_.faces.size(), std::move(views));
    out.mark_odd();
    return out;
  }

  /// Image points of faces' corners in their photos.
  std::vector<std::array<Eigen::Vector2f, 3>> corners(const std::vector<std::int32_t>& photo) const {
    std::vector<std::array<Eigen::Vector2f, 3>> out(mesh_.faces.size());
    parallel_for(out.size(), 1024, [&](std::size_t f) {
      for (std::size_t k = 0; k < 3 && photo[f] >= 0; ++k)
        if (const auto x = image(photo[f], mesh_.at(mesh_.faces[f][k]))) out[f][k] = x->cast<float>();
    });
    return out;
  }
  std::optional<Eigen::Vector2d> image(std::int32_t photo, const Eigen::Vector3d& X) const {
    const auto shown = (*images_[static_cast<std::size_t>(photo)])(X);
    return shown ? std::optional(shown->x) : std::nullopt;
  }

  /// Cuts the charts out of their photos, toned.
  void fill(const mesh::Atlas& atlas, double scale, std::vector<photo::Rgb>& pages) {
    for (const auto& [width, height] : atlas.pages) pages.emplace_back(width, height, 3);
    std::vector<std::vector<const mesh::Chart*>> charts(photos_.size());
    for (const mesh::Chart& c : atlas.charts) charts[static_cast<std::size_t>(c.photo)].push_back(&c);
    progress_.start("cutting out textures", photos_.size());
    parallel_for(photos_.size(), [&](std::size_t i) {
      progress_.check();
      if (!charts[i].empty()) {
        const int level = std::clamp(static_cast<int>(std::lround(-std::log2(scale))), 0, 3);
        const photo::Rgb image = photo::read_rgb(photos_[i]->path, level, photos_[i]->tone);
        for (const mesh::Chart* c : charts[i])
          cut_out(image, static_cast<int>(i), *c, 1.0 / (1 << level), pages[static_cast<std::size_t>(c->page)]);
      }
      progress_.advance();
    });
  }

 private:
  const mesh::TriangleMesh& mesh_;
  const adjust::Block& block_;
  const std::vector<const Photo*>& photos_;
  Progress& progress_;
  std::vector<double> sharpness_;
  dense::ColourBalance colours_;
  std::vector<std::unique_ptr<mosaic::ImageLattice>> images_;

  mesh::ShownIn shown_in(std::size_t i) const {
    constexpr int level = 3;  // a face is as large as some pixels of it
    const camera::Camera& camera = block_.cameras[static_cast<std::size_t>(block_.stations[i].camera)];
    const auto small = std::make_shared<photo::Rgb>(photo::read_rgb(photos_[i]->path, level, photos_[i]->tone));
    return {static_cast<int>(i),
            camera.width,
            camera.height,
            block_.stations[i].C,
            std::cref(*images_[i]),
            [this, i, small](const mosaic::Shown& at) {
              const int col = std::clamp(static_cast<int>(at.x.x()) >> level, 0, small->width - 1),
                        row = std::clamp(static_cast<int>(at.x.y()) >> level, 0, small->height - 1);
              const std::array<float, 3> factors = colours_.factors(static_cast<int>(i), at.u);
              std::array<float, 3> out{};
              for (int ch = 0; ch < 3; ++ch)
                out[static_cast<std::size_t>(ch)] =
                    factors[static_cast<std::size_t>(ch)] * static_cast<float>(small->at(col, row, ch));
              return out;
            },
            sharpness_[i]};
  }

  /// Factors at a photo's pixel; tangents beyond the rim are those at it.
  std::array<float, 3> factors_at(int station, double x, double y) const {
    const camera::Camera& camera =
        block_.cameras[static_cast<std::size_t>(block_.stations[static_cast<std::size_t>(station)].camera)];
    const Eigen::Vector2d inside(std::clamp<double>(x, 0, camera.width), std::clamp<double>(y, 0, camera.height));
    const auto v = camera::ray(camera, inside);
    return v ? colours_.factors(station, {v->x(), -v->y()}) : std::array<float, 3>{1, 1, 1};
  }
  /// `scale`: of the image's pixels in the photo's.
  void cut_out(const photo::Rgb& image, int station, const mesh::Chart& c, double scale, photo::Rgb& page) const {
    constexpr int step = 16;  // pixels over which light changes by nothing to speak of
    for (int top = 0; top < c.height; top += step)
      for (int left = 0; left < c.width; left += step) {
        const std::array<float, 3> factors =
            factors_at(station, (c.left + left + step / 2) / scale, (c.top + top + step / 2) / scale);
        for (int row = top; row < std::min(c.height, top + step); ++row)
          for (int col = left; col < std::min(c.width, left + step); ++col) {
            const int from_col = std::clamp(c.left + col, 0, image.width - 1),
                      from_row = std::clamp(c.top + row, 0, image.height - 1);
            for (int ch = 0; ch < 3; ++ch)
              page.at(c.col + col, c.row + row, ch) = static_cast<std::uint8_t>(std::min(
                  255.0F,
                  factors[static_cast<std::size_t>(ch)] * static_cast<float>(image.at(from_col, from_row, ch)) + 0.5F));
          }
      }
  }
};

/// What of the mesh's area no photo shows.
double unseen_share(const mesh::TriangleMesh& mesh, const std::vector<std::int32_t>& photo) {
  double all = 0, unseen = 0;
  for (std::size_t f = 0; f < photo.size(); ++f) {
    const double area = mesh.area(mesh.faces[f]);
    all += area;
    if (photo[f] < 0) unseen += area;
  }
  return all > 0 ? unseen / all : 0;
}

}  // namespace

Textured lay_texture(const mesh::TriangleMesh& mesh, const adjust::NamedBlock& named,
                     const std::vector<const Photo*>& photos, int page, double detail, Progress& progress) {
  TextureJob job(mesh, named, photos, progress);
  std::vector<std::int32_t> photo;
  {
    const mesh::FaceViews views = job.find_views();
    photo = mesh::choose_views(mesh, views, static_cast<int>(photos.size()), {}, progress);
  }
  const std::vector<std::array<Eigen::Vector2f, 3>> at = job.corners(photo);
  // Photos are decoded at a half, a quarter, an eighth: pages have such pixels.
  const double scale = std::exp2(std::clamp(std::round(std::log2(detail)), -3.0, 0.0));
  mesh::AtlasOptions options;
  options.page = page, options.scale = scale;
  const mesh::Atlas atlas = mesh::make_atlas(mesh, photo, at, options);
  mesh::Pages pages{mesh, atlas, at, scale, [&](std::int32_t p, const Eigen::Vector3d& X) { return job.image(p, X); },
                    {}};
  job.fill(atlas, scale, pages.pages);
  progress.start("levelling seams", 1);
  constexpr int band = 6;  // pixels, less than charts' margin
  mesh::level_seams(pages, band);
  Textured out;
  std::vector<double> steps = mesh::seam_steps(pages);
  if (!steps.empty()) out.seam_step_median = median(std::move(steps));
  out.unseen_share = unseen_share(mesh, photo);
  out.charts = atlas.charts.size();
  std::set<std::int32_t> used(photo.begin(), photo.end());
  used.erase(-1);
  out.photos = static_cast<int>(used.size());
  out.texture.page.assign(mesh.faces.size(), -1), out.texture.at.resize(mesh.faces.size());
  for (std::size_t f = 0; f < photo.size(); ++f) {
    if (photo[f] < 0) continue;
    const mesh::Chart& c = atlas.charts[static_cast<std::size_t>(atlas.chart[f])];
    const auto& [width, height] = atlas.pages[static_cast<std::size_t>(c.page)];
    out.texture.page[f] = c.page;
    for (std::size_t k = 0; k < 3; ++k)
      out.texture.at[f][k] = pages.on_page(c, at[f][k])
                                 .cwiseQuotient(Eigen::Vector2f(static_cast<float>(width), static_cast<float>(height)));
  }
  out.texture.pages = std::move(pages.pages), out.texture.chart = atlas.chart;
  return out;
}

}  // namespace mesograph::stages
