#include <kasane/project/onto_grid.hpp>

#include <kasane/frames/exposure.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/stages/outside_image.hpp>
#include <kasane/stages/session.hpp>

#include <cmath>

namespace fs = std::filesystem;

namespace kasane {

namespace {

struct Measured {
    std::shared_ptr<const FrameView> view;
    ExposureMeasures measures;
};

Measured measured(const fs::path& file, const Context& context) {
    Measured m;
    m.view = view_of_image(file);
    m.measures = measure_image(*m.view, context.memory, many_stars());
    return m;
}

} // namespace

OntoGrid grid_of(const fs::path& file, const Context& context) {
    const Measured m = measured(file, context);
    return {file, reference_canvas(m.measures.width, m.measures.height), m.measures.main().stars};
}

ImageOnGrid bring_onto(const OntoGrid& grid, const fs::path& file, const std::optional<Model>& model, bool pixels,
                       const Context& context) {
    const Canvas& canvas = grid.canvas;
    ImageOnGrid out;
    AlignedImage& image = out.told;
    image.file = file;
    const Measured m = measured(file, context);
    const std::vector<Star>& here = m.measures.main().stars;
    image.stars = static_cast<int>(here.size());
    RegistrationOptions options;
    options.reference = {canvas.width, canvas.height, nullptr};
    options.frame = {m.measures.width, m.measures.height, nullptr};
    options.model = model;
    const Outcome found = register_stars(grid.stars, here, options);
    image.text = found.text;
    if (!found) return out;
    image.registered = true;
    image.model = found->model.text();
    image.way = found->way;
    image.matched = found->matched;
    image.rms = found->rms;
    image.expected = found->expected;
    const Point middle = found->to_frame.unmap({0.5 * (m.measures.width - 1), 0.5 * (m.measures.height - 1)});
    image.shift_x = middle.x - canvas.centre().x;
    image.shift_y = middle.y - canvas.centre().y;
    const Affine near = found->to_frame.at(middle);
    image.turn = near.rotation();
    image.scale = near.scale();
    image.mirrored = near.mirrors();
    out.to_image = found->to_frame;
    if (!pixels) return out;
    std::vector<double> noise;
    for (int p = 0; p < m.view->planes(); ++p)
        noise.push_back(m.measures.planes[m.measures.planes.size() == 1 ? 0 : static_cast<std::size_t>(p)].noise);
    context.progress.begin("write " + image.file.filename().string(), canvas.bounds().area());
    out.on_grid = regrid(m.view, found->to_frame, canvas, noise, context);
    context.progress.end();
    double covered = 0;
    for (const float share : out.on_grid.coverage.pixels())
        covered += static_cast<double>(share);
    image.covered = covered / static_cast<double>(canvas.bounds().area());
    return out;
}

std::optional<WorldCoordinates> world_on_grid(const OntoGrid& grid, const fs::path& file, const Transform& t,
                                              std::string& text) {
    const Canvas& canvas = grid.canvas;
    if (const auto own = world_of_image(grid.file)) {
        text = "as the image that gives the grid has it";
        return own;
    }
    const auto world = world_of_image(file);
    if (!world) return std::nullopt;
    constexpr int kLattice = 25;
    std::vector<SkySample> samples;
    const Exposure e = describe_exposure(file.string(), read_summary(file));
    for (int row = 0; row < kLattice; ++row)
        for (int column = 0; column < kLattice; ++column) {
            const Point c{static_cast<double>(column) / (kLattice - 1) * (canvas.width - 1),
                          static_cast<double>(row) / (kLattice - 1) * (canvas.height - 1)};
            const Point p = t.map(c);
            if (p.x >= -0.5 && p.y >= -0.5 && p.x <= e.width - 0.5 && p.y <= e.height - 0.5)
                samples.push_back({c, world->to_sky(p)});
        }
    auto fitted = fit_world(samples, canvas.width, canvas.height);
    if (!fitted) return std::nullopt;
    fitted->frame = world->frame;
    fitted->equinox = world->equinox;
    text = "from its own header";
    return fitted;
}

} // namespace kasane
