#include <kasane/sky/scenario.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/sky/truth.hpp>

#include <atomic>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane::sky {

namespace {

const char* image_type(Shot::Role role) {
    switch (role) {
    case Shot::Role::light:
        return "Light";
    case Shot::Role::dark:
        return "Dark";
    case Shot::Role::flat:
        return "Flat";
    case Shot::Role::bias:
        return "Bias";
    }
    return "Light";
}

Header make_header(const Scenario& s, const Shot& shot) {
    const Instrument& n = s.instrument;
    Header h;
    h.set("IMAGETYP", image_type(shot.role), "kind of exposure");
    h.set("EXPTIME", shot.seconds, "[s] exposure time");
    h.set("DATE-OBS", shot.start, "start of exposure, UTC");
    if (!shot.filter.empty() && n.cfa.empty()) h.set("FILTER", shot.filter, "filter");
    h.set("GAIN", 100LL, "gain setting of the camera");
    h.set("OFFSET", static_cast<long long>(n.offset / 10), "offset setting of the camera");
    h.set("EGAIN", n.gain, "[e-/ADU] electrons per count");
    h.set("CCD-TEMP", shot.temperature, "[degC] sensor temperature");
    h.set("SET-TEMP", shot.temperature, "[degC] sensor temperature asked for");
    h.set("XBINNING", 1LL, "binning in x");
    h.set("YBINNING", 1LL, "binning in y");
    h.set("XPIXSZ", n.pixel_um, "[um] pixel size in x");
    h.set("YPIXSZ", n.pixel_um, "[um] pixel size in y");
    h.set("INSTRUME", n.camera, "camera");
    h.set("TELESCOP", n.telescope, "telescope");
    h.set("FOCALLEN", n.focal_length_mm, "[mm] focal length");
    if (!n.cfa.empty()) h.set("BAYERPAT", n.cfa, "colours of the first 2 x 2 pixels");
    if (shot.role == Shot::Role::light) {
        h.set("OBJECT", s.target, "target");
        h.set("SITELAT", 35.0, "[deg] latitude of the site");
        h.set("SITELONG", 15.0, "[deg] longitude of the site, east positive");
    }
    return h;
}

Image flat_electrons(const InstrumentMaps& maps, const Shot& shot) {
    Image e = maps.illumination;
    for (float& v : e.pixels())
        v *= static_cast<float>(shot.flat_electrons);

    return e;
}

} // namespace

fs::path truth_folder(const fs::path& folder) {
    fs::path clean = fs::absolute(folder).lexically_normal();
    if (!clean.has_filename()) clean = clean.parent_path();
    return clean.string() + ".truth";
}

Written write_scenario(const Scenario& s, const fs::path& folder, const Context& context) {
    const Scene scene = make_scene(s.scene, context.workers);
    std::vector<InstrumentMaps> maps;
    for (const auto& dust : s.dust)
        maps.push_back(make_maps(s.instrument, dust));

    Written written{folder, truth_folder(folder), s.shots.size(), 0};
    require_writable_folder(folder);
    for (const Shot& shot : s.shots)
        fs::create_directories((folder / shot.path).parent_path());

    context.progress.begin("simulate", static_cast<std::int64_t>(s.shots.size()));
    const auto bytes_each =
        static_cast<std::uint64_t>(s.instrument.width) * static_cast<std::uint64_t>(s.instrument.height) * 10;
    std::atomic<std::uint64_t> bytes{0};
    context.workers.for_each(
        s.shots.size(),
        [&](std::size_t i) {
            const Shot& shot = s.shots[i];
            const InstrumentMaps& m = maps.at(static_cast<std::size_t>(shot.dust));
            Image electrons;
            switch (shot.role) {
            case Shot::Role::light:
                electrons = render_light(scene, shot.filter, s.instrument, m, shot.conditions, shot.seconds);
                break;
            case Shot::Role::flat:
                electrons = flat_electrons(m, shot);
                break;
            default:
                electrons = Image(s.instrument.width, s.instrument.height);
            }
            const auto adu = expose(electrons, s.instrument, m, shot.seconds, shot.temperature,
                                    shot.conditions.cosmic_rays, s.seed * 1000003 + i);
            write_fits_u16(folder / shot.path, adu.plane(), make_header(s, shot));
            bytes += fs::file_size(folder / shot.path);
            context.progress.advance();
        },
        context.memory.fitting(bytes_each, context.workers.threads()));
    context.progress.end();
    written.bytes = bytes;
    write_truth(s, scene, maps, written.truth);
    return written;
}

} // namespace kasane::sky
