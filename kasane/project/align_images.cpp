#include <kasane/project/align_images.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/onto_grid.hpp>
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
    const OntoGrid grid = grid_of(o.onto, context);
    report.width = grid.canvas.width;
    report.height = grid.canvas.height;
    report.stars = static_cast<int>(grid.stars.size());
    for (std::size_t i = 0; i < o.files.size(); ++i) {
        context.workers.cancel().check();
        AlignedImage image;
        image.file = o.files[i];
        const auto failure = attempt([&] {
            ImageOnGrid brought = bring_onto(grid, image.file, o.model, !places[i].empty(), context);
            image = brought.told;
            if (!image.registered || places[i].empty()) return;
            const RegriddedImage& on_grid = brought.on_grid;
            Header header = header_of(image.file, o.onto, image, on_grid);
            if (const auto world = world_on_grid(grid, image.file, *brought.to_image, image.world))
                write_world(header, *world, grid.canvas.width, grid.canvas.height);
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
