#include <kasane/stages/master_file.hpp>

#include <kasane/stages/masters.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// What a master's file says of it.
Header header_of(const Session& s, const BuiltMaster& built) {
    const MasterPlan& plan = built.plan;
    const MasterResult& m = built.result;
    const std::vector<std::size_t>& members = built.members;
    const MasterReport& r = built.report;
    const Exposure& e = s.exposures[members.front()];
    Header h;
    std::string type(role_name(plan.role));
    type[0] = static_cast<char>(std::toupper(type[0]));
    h.set("CREATOR", kCreator, "program that made this file");
    h.set("IMAGETYP", "Master " + type, "kind of exposure");
    h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
    if (!e.cfa.empty()) h.set("BAYERPAT", e.cfa, "colours of the first pixels");
    h.set("BUNIT", plan.role == Role::flat ? "relative" : "ADU", "unit of the pixels");
    if (e.seconds) h.set("EXPTIME", *e.seconds, "[s] exposure time of each frame");
    if (!e.filter.empty() && plan.role == Role::flat) h.set("FILTER", e.filter, "filter");
    if (!e.start.empty()) h.set("DATE-OBS", e.start, "start of the first frame, UTC");
    if (e.gain) h.set("GAIN", *e.gain, "gain setting of the camera");
    if (e.offset) h.set("OFFSET", *e.offset, "offset setting of the camera");
    if (const auto t = e.sensor_temperature()) h.set("CCD-TEMP", *t, "[degC] sensor temperature");
    h.set("XBINNING", static_cast<long long>(e.binning_x), "binning in x");
    h.set("YBINNING", static_cast<long long>(e.binning_y), "binning in y");
    if (!e.camera.empty()) h.set("INSTRUME", e.camera, "camera");
    h.set("NCOMBINE", static_cast<long long>(m.frames), "frames combined");
    for (std::size_t c = 0; c < m.colour_levels.size(); ++c)
        h.set(fmt::format("LEVEL{}", c + 1), m.colour_levels[c], "[ADU] median level of red, green or blue");
    h.set("NOISE", m.noise, "noise of this master, unit of the pixels");
    h.set("FRMNOISE", m.frame_noise, "noise of a single frame, unit of the pixels");
    h.set("LEVEL", m.level, "[ADU] median level of the frames");
    h.set("REJECTED", m.rejected_share, "share of samples rejected");
    std::string inputs;
    for (const std::size_t i : members)
        inputs += s.exposures[i].fingerprint;
    h.set("INPUTS", digest(inputs), "digest of the frames combined");
    for (std::size_t k = 0; k < members.size() && k < 999; ++k)
        h.set(fmt::format("INPUT{}", k + 1), s.exposures[members[k]].fingerprint, "fingerprint of a frame");
    h.set("BASISKEY", built.key, "of frames and settings that made it");
    if (r.electrons_per_adu > 0) h.set("EGAIN", r.electrons_per_adu, "[e-/ADU] by photon transfer");
    if (r.read_noise > 0) h.set("RDNOISE", r.read_noise, "[e-] by photon transfer");
    if (r.saturation > 0) h.set("SATURATE", r.saturation, "[ADU] where pixels of its frames pile up");
    h.set("LEVELSPR", m.level_spread, "how far the levels of its frames differ");
    h.set("GRADIENT", m.gradient, "from edge to edge, unit of the pixels");
    h.set("STARPIX", static_cast<long long>(m.star_pixels), "pixels under stars of the sky that were patched");
    if (!r.unread.empty()) h.set("UNREAD", static_cast<long long>(r.unread.size()), "files that it lacks");
    for (std::size_t k = 0; k < r.doubts.size(); ++k)
        h.set(fmt::format("DOUBT{}", k + 1), r.doubts[k], "");
    for (const std::string& line : r.made.history())
        h.add_history(line);
    return h;
}

/// A picture of a master: the colours of a mosaic levelled, so that it does not show as a grid.
Raster<std::uint8_t> render_master(const Image& pixels, const CfaPattern& cfa) {
    if (cfa.empty() || pixels.planes() == 3) return render_planes(pixels, choose_stretches(pixels));
    Image planes(pixels.width() / cfa.cell(), pixels.height() / cfa.cell(), 3);
    bin_mosaic(pixels.plane(), cfa, {planes.plane(0), planes.plane(1), planes.plane(2)});
    return render_planes(planes, choose_stretches(planes));
}

/// A master of another project or program, whose check sums are compared when it is first met. Throws UnfitError.
void require_sound(const Session& s, const MasterPlan& plan, const FrameReader& reader) {
    const std::size_t i = plan.members.front();
    const std::string name = "sums/" + s.exposures[i].path;
    const auto stamp = file_stamp(s.path_of(i));
    if (stamp && s.ledger.choice(name) == stamp->text()) return;
    if (const std::string wrong = reader.check_sums(); !wrong.empty())
        throw UnfitError(wrong, s.path_of(i), "It was damaged after it was made: copy it again, or remove it");
    if (stamp) s.ledger.set_choice(name, stamp->text());
}

} // namespace

/// What of a master may hurt.
std::vector<std::string> doubts_of_master(Role role, const MasterResult& m, const MasterReport& r, const Exposure& e) {
    std::vector<std::string> out;
    const bool flat = role == Role::flat;
    if (m.frames == 1) out.push_back("made of a single frame, whose noise goes into every light");
    constexpr double kNoisyFlat = 0.003; // of the sky: as much as the photon noise of 100 000 electrons
    if (flat && m.noise > kNoisyFlat)
        out.push_back(fmt::format("its noise of {:.2f} % of the sky goes into every light (more or brighter flats "
                                  "lower it)",
                                  100 * m.noise));
    const double full = r.saturation > 0 ? r.saturation : e.saturation.value_or(e.bits == 16 ? 65535 : 0);
    constexpr double kDim = 0.05;
    if (flat && full > 0 && m.level < kDim * full)
        out.push_back(fmt::format("dim: {:.0f} ADU, {:.1f} % of the full scale", m.level, 100 * m.level / full));
    if (flat && r.saturation > 0 && m.level > 0.9 * r.saturation)
        out.push_back("saturated: its brightest parts correct nothing");
    std::size_t without = 0;
    for (const float v : m.pixels.pixels())
        without += !(v > (flat ? 0.02f : -1e30f)) || !std::isfinite(v);
    const double share = static_cast<double>(without) / static_cast<double>(m.pixels.pixels().size());
    if (share > 1e-3)
        out.push_back(fmt::format("{:.2g} % of its pixels are without {}", 100 * share, flat ? "light" : "data"));
    const double scale = std::max(3.0, m.frame_noise);    // ADU
    if (!flat && m.level_spread > scale && !e.uncooled()) // those of uncooled cameras follow the temperature
        out.push_back(fmt::format("its frames differ by {:.1f} ADU in level: {}", m.level_spread,
                                  role == Role::bias ? "the offset drifts" : "light leak, or the temperature drifts"));
    if (role == Role::bias && m.gradient > 2 * scale)
        out.push_back(fmt::format("it changes by {:.1f} ADU from edge to edge: light leak?", m.gradient));
    return out;
}

void write_master(const Session& s, const BuiltMaster& built) {
    const Image& pixels = built.result.pixels;
    s.context.workers.for_each(2, [&](std::size_t k) {
        if (k == 0)
            write_fits(built.file, {{pixels.plane(), header_of(s, built), {}, pixels.planes()}});
        else
            write_png(master_preview(built.file),
                      render_master(pixels, CfaPattern(s.exposures[built.members.front()].cfa)));
    });
}

fs::path master_preview(fs::path file) {
    return file.replace_extension(".png");
}

/// Reads what an existing master says of itself; pixels of a flat need not have mean 1.
ReadyMaster adopt(const Session& s, const MasterPlan& plan) {
    const Exposure& e = s.exposures[plan.members.front()];
    const auto reader = s.open(plan.members.front());
    require_sound(s, plan, *reader);
    const double frames = reader->header().number("NCOMBINE").value_or(1);
    const double noise = reader->header().number("FRMNOISE").value_or(0);
    Image middle(reader->width(), std::min(64, reader->height()) & ~1);
    const CfaPattern cfa(e.planes == 1 ? e.cfa : "");
    const Region band{0, ((reader->height() - middle.height()) / 2) & ~1, middle.width(), middle.height()};
    std::array<std::vector<float>, 3> colours;
    for (int p = 0; p < reader->planes(); ++p) {
        reader->read(band, middle.plane(), p);
        for (int y = 0; y < middle.height(); ++y)
            for (int x = 0; x < middle.width(); ++x)
                colours[static_cast<std::size_t>(p ? p : cfa.colour(x, band.y + y))].push_back(middle(x, y));
    }
    MasterReport r;
    r.name = plan.name;
    r.role = role_name(plan.role);
    r.file = e.path;
    r.frames = static_cast<int>(frames);
    r.level = image_statistics(middle.plane()).location;
    if (!colours[1].empty())
        for (auto& values : colours)
            r.colour_levels.push_back(clipped_statistics(values, 3).location);
    r.frame_noise =
        noise > 0 ? noise : difference_noise(middle.plane(), cfa.empty() ? 1 : 2) * std::sqrt(std::max(1.0, frames));
    r.noise = r.frame_noise / std::sqrt(std::max(1.0, frames));
    if (plan.role == Role::flat && e.made_by_kasane) r.electrons_per_adu = e.electrons_per_adu.value_or(0);
    r.combination = "made before, " + (e.made_by_kasane ? std::string("by Kasane") : std::string("elsewhere"));
    r.reused = true;
    r.members = {e.path};
    return {master_basis(s, plan).key(), s.path_of(plan.members.front()), r};
}

/// A master that another project made of the same frames, by its header.
std::optional<MasterReport> from_library(const Session& s, const MasterPlan& plan, const std::string& key,
                                         const fs::path& file) {
    if (s.recipe.calibration.library.empty()) return std::nullopt;
    std::optional<MasterReport> found;
    (void)attempt([&] { // damaged: made anew
        const Header h = read_fits_summary(file).header;
        if (h.text("BASISKEY").value_or("") != key || h.find("UNREAD")) return;
        if (!open_fits(file)->check_sums().empty()) return;
        MasterReport r;
        r.name = plan.name;
        r.role = role_name(plan.role);
        r.file = fs::relative(file, s.output).string();
        r.frames = static_cast<int>(h.number("NCOMBINE").value_or(1));
        r.level = h.number("LEVEL").value_or(0);
        r.noise = h.number("NOISE").value_or(0);
        r.frame_noise = h.number("FRMNOISE").value_or(0);
        r.rejected_share = h.number("REJECTED").value_or(0);
        r.electrons_per_adu = h.number("EGAIN").value_or(0);
        r.read_noise = h.number("RDNOISE").value_or(0);
        r.saturation = h.number("SATURATE").value_or(0);
        r.level_spread = h.number("LEVELSPR").value_or(0);
        r.gradient = h.number("GRADIENT").value_or(0);
        r.star_pixels = static_cast<int>(h.number("STARPIX").value_or(0));
        for (int c = 1; c <= 3; ++c)
            if (const auto level = h.number(fmt::format("LEVEL{}", c))) r.colour_levels.push_back(*level);
        for (int k = 1; h.find(fmt::format("DOUBT{}", k)); ++k)
            r.doubts.push_back(*h.text(fmt::format("DOUBT{}", k)));
        r.offset = plan.role == Role::flat ? plan.offset_reason : "";
        r.combination = "found in the library";
        r.reused = true;
        for (const std::size_t i : plan.members)
            r.members.push_back(s.exposures[i].path);
        found = std::move(r);
    });
    return found;
}

} // namespace kasane
