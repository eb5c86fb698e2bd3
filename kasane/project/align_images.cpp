#include <kasane/project/align_images.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/units.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/regrid.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/stages/outside_image.hpp>
#include <kasane/stages/session.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Where each result goes; refuses what cannot be before any work is done.
std::vector<fs::path> places_for(const ImageAlignOptions& o) {
    std::vector<fs::path> out(o.files.size());
    if (o.folder.empty()) return out;
    std::map<std::string, fs::path> taken;
    std::error_code failed;
    for (std::size_t i = 0; i < o.files.size(); ++i) {
        const std::string name = o.files[i].stem().string() + ".on-" + o.onto.stem().string() + ".fits";
        const auto [there, fresh] = taken.emplace(name, o.files[i]);
        if (!fresh)
            throw UsageError(
                fmt::format("{} and {} would both become {}", there->second.string(), o.files[i].string(), name),
                o.folder, "Bring them there one by one, into folders of their own");
        out[i] = o.folder / name;
        for (const fs::path& input : o.files)
            if (fs::exists(out[i], failed) && fs::equivalent(out[i], input, failed))
                throw UsageError("is an image of this call and would be written over", out[i],
                                 "Name another folder with --write");
        require_replaceable(out[i]);
    }
    require_writable_folder(o.folder);
    return out;
}

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

Header header_of(const fs::path& file, const fs::path& onto, const AlignedImage& image, const RegriddedImage& on_grid) {
    const Exposure e = describe_exposure(file.string(), read_summary(file));
    Header h;
    h.set("CREATOR", kCreator, "program that made this file");
    h.set("IMAGETYP", e.is_master && e.role == Role::light ? "Master Light" : "Light", "kind of exposure");
    h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
    if (!e.target.empty()) h.set("OBJECT", e.target, "target");
    if (!e.filter.empty()) h.set("FILTER", e.filter, "filter");
    if (!e.start.empty()) h.set("DATE-OBS", e.start, "start, UTC");
    if (e.seconds) h.set("EXPTIME", *e.seconds, "[s]");
    if (!e.camera.empty()) h.set("INSTRUME", e.camera, "camera");
    if (!e.telescope.empty()) h.set("TELESCOP", e.telescope, "telescope");
    h.set("REFERENC", onto.filename().string(), "image that gives the grid");
    h.set("PIXAREA", on_grid.area, "area of a pixel, in pixels of the original");
    h.add_history(fmt::format("register: {} ({}) onto the grid of {} ({}), {} of {} stars, {:.3f} px; {}",
                              file.filename().string(), fingerprint(file), onto.filename().string(), fingerprint(onto),
                              image.matched, image.stars, image.rms, image.model));
    h.add_history(
        fmt::format("resample: Lanczos-3, {} x {} samples a pixel; surface brightness is kept: values are for "
                    "a pixel of the original, and the sum over a star times PIXAREA is its flux",
                    on_grid.parts, on_grid.parts));
    return h;
}

/// The grid's own position on the sky, else the image's brought onto it.
std::optional<WorldCoordinates> world_on_grid(const fs::path& file, const ImageAlignOptions& o, const Transform& t,
                                              const Canvas& canvas, std::string& text) {
    if (const auto own = world_of_image(o.onto)) {
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

} // namespace

bool ImageAlignReport::clean() const {
    return std::all_of(images.begin(), images.end(), [](const AlignedImage& i) { return i.registered; });
}

ImageAlignReport align_images(const ImageAlignOptions& o, const Context& context) {
    const Stopwatch clock;
    const std::vector<fs::path> places = places_for(o);
    if (!o.folder.empty()) remove_leftovers(o.folder);
    ImageAlignReport report;
    report.onto = o.onto;
    report.folder = o.folder;
    const Measured grid = measured(o.onto, context);
    const std::vector<Star>& stars = grid.measures.main().stars;
    const Canvas canvas = reference_canvas(grid.measures.width, grid.measures.height);
    report.width = canvas.width;
    report.height = canvas.height;
    report.stars = static_cast<int>(stars.size());
    for (std::size_t i = 0; i < o.files.size(); ++i) {
        context.workers.cancel().check();
        AlignedImage image;
        image.file = o.files[i];
        const auto failure = attempt([&] {
            const Measured m = measured(image.file, context);
            const std::vector<Star>& here = m.measures.main().stars;
            image.stars = static_cast<int>(here.size());
            RegistrationOptions options;
            options.reference = {canvas.width, canvas.height, nullptr};
            options.frame = {m.measures.width, m.measures.height, nullptr};
            options.model = o.model;
            const Outcome found = register_stars(stars, here, options);
            image.text = found.text;
            if (!found) return;
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
            if (places[i].empty()) return;
            std::vector<double> noise;
            for (int p = 0; p < m.view->planes(); ++p)
                noise.push_back(
                    m.measures.planes[m.measures.planes.size() == 1 ? 0 : static_cast<std::size_t>(p)].noise);
            context.progress.begin("write " + image.file.filename().string(), canvas.bounds().area());
            const RegriddedImage on_grid = regrid(m.view, found->to_frame, canvas, noise, context);
            context.progress.end();
            double covered = 0;
            for (const float share : on_grid.coverage.pixels())
                covered += share;
            image.covered = covered / static_cast<double>(canvas.bounds().area());
            Header header = header_of(image.file, o.onto, image, on_grid);
            if (const auto world = world_on_grid(image.file, o, found->to_frame, canvas, image.world))
                write_world(header, *world, canvas.width, canvas.height);
            Header coverage;
            coverage.set("BUNIT", "relative", "share of each pixel that the image covers");
            write_fits(places[i], {{on_grid.pixels.plane(), header, {}, on_grid.pixels.planes()},
                                   {on_grid.coverage.plane(), coverage, "COVERAGE", 1}});
            image.written = places[i];
        });
        if (failure) {
            image.registered = false;
            image.text = failure->what_failed + ". " + failure->remedy;
        }
        report.images.push_back(std::move(image));
    }
    report.time = clock.seconds();
    return report;
}

} // namespace kasane
