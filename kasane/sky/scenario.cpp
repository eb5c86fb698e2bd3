#include <kasane/sky/scenario.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/sky/dng.hpp>
#include <kasane/sky/truth.hpp>

#include <atomic>
#include <ctime>
#include <fmt/format.h>
#include <iomanip>
#include <sstream>

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
        h.set("OBJECT", shot.target.empty() ? s.target : shot.target, "target");
        h.set("SITELAT", 35.0, "[deg] latitude of the site");
        h.set("SITELONG", 15.0, "[deg] longitude of the site, east positive");
    }
    return h;
}

/// Where a light's pixels lie on the sky, as a program that solves fields would write it.
void add_world(const Scenario& s, const Shot& shot, Header& h) {
    const Instrument& n = s.instrument;
    const double degrees_a_pixel = kArcsecPerMicrometre * n.pixel_um / n.focal_length_mm / 3600;
    WorldCoordinates plane; // of the scene: right ascension grows to the left, declination upwards
    plane.sky = {s.solved->ra + shot.world_error.ra, s.solved->dec + shot.world_error.dec};
    plane.cd = {-degrees_a_pixel, 0, 0, -degrees_a_pixel};
    constexpr int kLattice = 21;
    std::vector<SkySample> samples;
    for (int row = 0; row < kLattice; ++row)
        for (int column = 0; column < kLattice; ++column) {
            const Point p{static_cast<double>(column) / (kLattice - 1) * (n.width - 1),
                          static_cast<double>(row) / (kLattice - 1) * (n.height - 1)};
            samples.push_back({p, plane.to_sky(scene_at(shot.conditions.pointing, n, p))});
        }
    if (auto world = fit_world(samples, n.width, n.height)) {
        world->frame = "ICRS";
        write_world(h, *world, n.width, n.height);
    }
}

Image flat_electrons(const InstrumentMaps& maps, const Shot& shot) {
    Image e = maps.illumination;
    for (float& v : e.pixels())
        v *= static_cast<float>(shot.flat_electrons);

    return e;
}

Raster<std::uint16_t> expose_shot(const Scenario& s, const Scene& scene, const InstrumentMaps& maps, const Shot& shot,
                                  std::uint64_t seed) {
    Image electrons(s.instrument.width, s.instrument.height);
    if ((shot.role == Shot::Role::light && !shot.capped) || shot.under_sky)
        electrons = render_light(scene, shot.filter, {s.instrument, maps}, shot.conditions, shot.seconds);
    else if (shot.role == Shot::Role::flat)
        electrons = flat_electrons(maps, shot);
    return expose(electrons, {s.instrument, maps}, {shot.seconds, shot.temperature, shot.conditions.cosmic_rays}, seed);
}

Raster<std::uint16_t> turned(const Raster<std::uint16_t>& p) {
    Raster<std::uint16_t> out(p.height(), p.width());
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x)
            out(x, y) = p(y, p.height() - 1 - x);
    return out;
}

/// "2031-03-12T20:05:00" in UTC by the clock of the camera, as EXIF writes it.
std::string camera_clock(const std::string& utc, double time_zone) {
    std::tm t{};
    std::istringstream(utc) >> std::get_time(&t, "%Y-%m-%dT%H:%M:%S");
    const std::time_t local = timegm(&t) + static_cast<std::time_t>(time_zone * 3600);
    gmtime_r(&local, &t);
    return fmt::format("{:04}:{:02}:{:02} {:02}:{:02}:{:02}", t.tm_year + 1900, t.tm_mon + 1, t.tm_mday, t.tm_hour,
                       t.tm_min, t.tm_sec);
}

void write_shot(const Scenario& s, const Shot& shot, Raster<std::uint16_t> adu, const fs::path& file) {
    if (shot.turned) adu = turned(adu);
    if (file.extension() == ".dng") {
        DngTags tags;
        tags.model = s.instrument.camera;
        tags.cfa = s.instrument.cfa;
        tags.seconds = shot.seconds;
        tags.iso = s.iso;
        tags.local_time = camera_clock(shot.start, s.time_zone);
        tags.lens = s.instrument.telescope;
        tags.focal_length_mm = s.instrument.focal_length_mm;
        tags.temperature = shot.temperature;
        tags.black = static_cast<int>(s.instrument.offset);
        tags.white = static_cast<int>(s.instrument.saturation_adu);
        return write_dng(file, adu.plane(), tags);
    }
    Header header = shot.silent ? Header{} : make_header(s, shot);
    if (s.solved && shot.role == Shot::Role::light && !shot.silent) add_world(s, shot, header);
    for (const auto& [key, value] : shot.claims)
        header.set(key, value, "");
    write_fits_u16(file, adu.plane(), header, Over::anything); // the caller has seen to it that nothing is lost
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
            write_shot(s, shot, expose_shot(s, scene, m, shot, s.seed * 1000003 + i), folder / shot.path);
            bytes += fs::file_size(folder / shot.path);
            context.progress.advance();
        },
        context.memory.fitting(bytes_each, context.workers.threads()));
    context.progress.end();
    for (const Scenario::Copy& c : s.copies) {
        fs::create_directories((folder / c.to).parent_path());
        fs::copy_file(folder / c.from, folder / c.to, fs::copy_options::overwrite_existing);
        const auto size = static_cast<double>(fs::file_size(folder / c.to));
        fs::resize_file(folder / c.to, static_cast<std::uintmax_t>(c.share * size));
        bytes += fs::file_size(folder / c.to);
    }
    written.files += s.copies.size();
    written.bytes = bytes;
    for (const auto& [path, text] : s.texts)
        write_text_safely(written.folder / path, text, Over::anything);
    write_truth(s, scene, maps, written.truth);
    return written;
}

} // namespace kasane::sky
