// Stage 2: calibration masters, each built once for its inputs.
#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/results.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/calibration/master.hpp>
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

Header provenance(const Session& s, const MasterPlan& plan, const MasterResult& m,
                  const std::vector<std::size_t>& members) {
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
    h.add_history(m.combination + ".");
    if (plan.role == Role::flat)
        h.add_history("Offset removed: " + plan.offset_reason + ". Frames levelled by colour, mean 1 in each.");
    for (const std::size_t i : members)
        h.add_history("from " + s.exposures[i].path);
    return h;
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

/// What photon transfer says of the camera that took these flats.
void measure_camera(Session& s, const MasterPlan& plan, const std::vector<std::size_t>& members,
                    const FrameReader* offset, MasterReport& r) {
    std::vector<std::shared_ptr<const FrameReader>> flats, bias;
    try {
        for (const std::size_t i : members)
            flats.push_back(s.open(i));
        if (plan.offset && !s.pairing.masters[*plan.offset].existing)
            for (const std::size_t i : s.pairing.masters[*plan.offset].members)
                if (bias.size() < 2) bias.push_back(s.open(i));
        const PhotonTransfer t =
            measure_photon_transfer(flats, bias, offset, static_cast<float>(plan.offset_level.value_or(0)));
        r.electrons_per_adu = t.electrons_per_adu;
        r.read_noise = t.read_noise;
        r.saturation = t.saturation;
    } catch (const InputError& e) { // as far as it goes; again when the file can be read
        r.unread.push_back(e.file().lexically_proximate(s.options.folder).string());
    }
    if (!members.empty() && !s.exposures[members.front()].linear) r.electrons_per_adu = r.read_noise = 0;
}

/// What of a master may hurt.
std::vector<std::string> doubts(Role role, const MasterResult& m, const MasterReport& r, const Exposure& e) {
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

/// A picture of a master: the colours of a mosaic levelled, so that it does not show as a grid.
Raster<std::uint8_t> render_master(const Image& pixels, const CfaPattern& cfa) {
    if (cfa.empty() || pixels.planes() == 3) return render_planes(pixels, choose_stretches(pixels));
    Image planes(pixels.width() / cfa.cell(), pixels.height() / cfa.cell(), 3);
    bin_mosaic(pixels.plane(), cfa, {planes.plane(0), planes.plane(1), planes.plane(2)});
    return render_planes(planes, choose_stretches(planes));
}

/// A master that another project made of the same frames, by its header.
std::optional<MasterReport> from_library(const Session& s, const MasterPlan& plan, const std::string& key,
                                         const fs::path& file) {
    if (s.recipe.calibration.library.empty()) return std::nullopt;
    try {
        const Header h = read_fits_summary(file).header;
        if (h.text("BASISKEY").value_or("") != key || h.find("UNREAD")) return std::nullopt;
        if (!open_fits(file)->check_sums().empty()) return std::nullopt; // damaged: made anew
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
        return r;
    } catch (const InputError&) { // damaged: made anew
        return std::nullopt;
    }
}

/// Members that could not be used.
struct LeftOut {
    std::vector<std::pair<std::string, std::string>> all; ///< and why
    std::vector<std::string> unread;                      ///< of these, what may be read another time
    void add(Session& s, std::size_t member, const InputError& e) {
        const std::string& path = s.exposures[member].path;
        all.emplace_back(path, e.what_failed());
        if (dynamic_cast<const UnfitError*>(&e)) return;
        unread.push_back(path);
        s.unread.insert(path);
    }
};

/// Opens the frames of a plan; those that cannot be opened are set aside.
std::vector<std::size_t> open_members(Session& s, const MasterPlan& plan,
                                      std::vector<std::shared_ptr<const FrameReader>>& frames, LeftOut& left_out) {
    std::vector<std::size_t> members;
    for (const std::size_t i : plan.members) {
        try {
            frames.push_back(s.open(i));
            members.push_back(i);
        } catch (const InputError& e) {
            left_out.add(s, i, e);
        }
    }
    return members;
}

/// Builds from as many of the frames as are good: one that fails on the way is set aside, and the rest is done again.
MasterResult build_from_good(Session& s, const MasterPlan& plan, const FrameReader* offset,
                             std::vector<std::size_t>& members, LeftOut& left_out) {
    std::vector<std::shared_ptr<const FrameReader>> frames;
    members = open_members(s, plan, frames, left_out);
    MasterOptions options;
    options.offset_level = static_cast<float>(plan.offset_level.value_or(0));
    options.cfa = CfaPattern(s.exposures[plan.members.front()].cfa);
    for (;;) {
        if (frames.empty())
            throw DataError(left_out.all.empty()
                                ? "it has no frames"
                                : "none of its frames could be used; of the first: " + left_out.all.front().second,
                            {}, "Mend the files, or leave them out");
        try {
            MasterResult result = build_master(plan.role, frames, offset, s.context, options);
            for (std::size_t k = 0; k < members.size(); ++k)
                s.note_content(members[k], *frames[k]);
            return result;
        } catch (const InputError& e) {
            const auto bad =
                std::find_if(frames.begin(), frames.end(), [&](const auto& f) { return f->path() == e.file(); });
            if (bad == frames.end()) throw;
            const auto at = bad - frames.begin();
            left_out.add(s, members[static_cast<std::size_t>(at)], e);
            frames.erase(bad);
            members.erase(members.begin() + at);
        }
    }
}

ReadyMaster build(Session& s, const MasterPlan& plan, const std::string& key, const fs::path& file) {
    const Stopwatch clock;
    std::unique_ptr<FrameReader> offset;
    const bool offset_missing = plan.offset && !s.masters[*plan.offset];
    if (plan.offset && !offset_missing) offset = open_frame(s.masters[*plan.offset]->file);
    std::vector<std::size_t> members;
    LeftOut left_out;
    const MasterResult m = build_from_good(s, plan, offset.get(), members, left_out);
    MasterReport r;
    r.unread = left_out.unread;
    if (plan.role == Role::flat) measure_camera(s, plan, members, offset.get(), r);
    if (plan.offset && !offset_missing) {
        const auto& lacked = s.masters[*plan.offset]->report.unread;
        r.unread.insert(r.unread.end(), lacked.begin(), lacked.end());
    }
    if (offset_missing)
        for (const std::size_t i : s.pairing.masters[*plan.offset].members)
            r.unread.push_back(s.exposures[i].path);
    Header header = provenance(s, plan, m, members);
    header.set("BASISKEY", key, "of frames and settings that made it");
    if (r.electrons_per_adu > 0) header.set("EGAIN", r.electrons_per_adu, "[e-/ADU] by photon transfer");
    if (r.read_noise > 0) header.set("RDNOISE", r.read_noise, "[e-] by photon transfer");
    if (r.saturation > 0) header.set("SATURATE", r.saturation, "[ADU] where pixels of its frames pile up");
    header.set("LEVELSPR", m.level_spread, "how far the levels of its frames differ");
    header.set("GRADIENT", m.gradient, "from edge to edge, unit of the pixels");
    header.set("STARPIX", static_cast<long long>(m.star_pixels), "pixels under stars of the sky that were patched");
    if (!r.unread.empty()) header.set("UNREAD", static_cast<long long>(r.unread.size()), "files that it lacks");
    r.doubts = doubts(plan.role, m, r, s.exposures[members.front()]);
    if (offset_missing)
        r.doubts.push_back("its offset could not be removed: " + s.pairing.masters[*plan.offset].name +
                           " could not be made");
    for (std::size_t k = 0; k < r.doubts.size(); ++k)
        header.set(fmt::format("DOUBT{}", k + 1), r.doubts[k], "");
    write_fits(file, {{m.pixels.plane(), header, {}, m.pixels.planes()}});
    fs::path preview = file;
    preview.replace_extension(".png");
    write_png(preview, render_master(m.pixels, CfaPattern(s.exposures[members.front()].cfa)));
    r.name = plan.name;
    r.role = role_name(plan.role);
    r.file = fs::relative(file, s.output).string();
    r.preview = fs::relative(preview, s.output).string();
    r.frames = m.frames;
    r.level = m.level;
    r.colour_levels = m.colour_levels;
    r.noise = m.noise;
    r.level_spread = m.level_spread;
    r.gradient = m.gradient;
    r.star_pixels = static_cast<int>(m.star_pixels);
    r.combination = m.combination;
    r.frame_noise = m.frame_noise;
    r.rejected_share = m.rejected_share;
    r.offset = plan.role == Role::flat ? plan.offset_reason : "";
    r.time = clock.seconds();
    for (const std::size_t i : members)
        r.members.push_back(s.exposures[i].path);
    r.left_out = std::move(left_out.all);
    return {key, file, r};
}

/// The name under which the ledger knows a master.
std::string master_entry(const MasterPlan& plan) {
    return "masters/" + plan.name + ".fits";
}

} // namespace

Basis master_basis(const Session& s, const MasterPlan& plan) {
    Basis b("master");
    b.set("role", std::string(role_name(plan.role))).set("name", plan.name);
    Key metadata("frames of a master");
    for (const std::size_t i : plan.members) {
        const Exposure& e = s.exposures[i];
        b.input(e.identity, e.path);
        if (e.turn) b.set("turn of " + e.identity, value_text(e, Field::turn));
        metadata.add(s.metadata_key(i));
    }
    b.set("exposures", metadata.result());
    if (plan.offset) {
        const MasterPlan& offset = s.pairing.masters[*plan.offset];
        b.set("offset " + offset.name, master_basis(s, offset).key());
    }
    if (plan.offset_level) b.set("offset_level", fmt::format("{:.17g}", *plan.offset_level));
    return b;
}

std::string effective_key(const std::string& key, const MasterReport& report) {
    return report.unread.empty() ? key : Key("master that lacks files").add(key, report.unread).result();
}

std::vector<std::size_t> needed_masters(const Pairing& pairing) {
    const auto& plans = pairing.masters;
    std::vector<bool> needed(plans.size(), false);
    for (const StackPlan& stack : pairing.stacks)
        for (const LightPlan& l : stack.lights)
            for (const auto& m : {l.dark, l.bias, l.second_dark, l.flat})
                if (m) needed[*m] = true;
    for (std::size_t i = 0; i < plans.size(); ++i)
        if (needed[i] && plans[i].offset) needed[*plans[i].offset] = true;
    std::vector<std::size_t> order; // what others need first
    for (const bool flats : {false, true})
        for (std::size_t i = 0; i < plans.size(); ++i)
            if (needed[i] && (plans[i].role == Role::flat) == flats) order.push_back(i);
    return order;
}

std::optional<MasterReport> finished_master(const Session& s, const MasterPlan& plan, const std::string& key) {
    const auto body = s.ledger.fact(key);
    const fs::path file = master_file(s, plan, key);
    std::error_code failed;
    if (!fs::exists(file, failed)) return std::nullopt;
    if (!body) {
        auto found = from_library(s, plan, key, file);
        if (found) {
            remember_intact(s, file);
            s.ledger.set_fact(key, json_text({{"report", *found}}));
            s.ledger.set_choice("file/" + master_entry(plan), key);
        }
        return found;
    }
    try {
        auto report = nlohmann::json::parse(*body).at("report").get<MasterReport>();
        const auto current = s.ledger.choice("file/" + master_entry(plan));
        if (!current || *current != key || !is_intact(s, file) || s.any_can_be_read(report.unread)) return std::nullopt;
        report.reused = true;
        report.members.clear(); // files may have moved since
        for (const std::size_t i : plan.members)
            report.members.push_back(s.exposures[i].path);
        return report;
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

std::optional<std::string> failed_master(const Session& s, const std::string& key) {
    const auto body = s.ledger.fact(key);
    if (!body) return std::nullopt;
    const auto json = nlohmann::json::parse(*body, nullptr, false);
    if (!json.is_object() || !json.contains("failed")) return std::nullopt;
    try {
        if (s.any_can_be_read(json.at("unread").get<std::vector<std::string>>())) return std::nullopt;
        return json.at("failed").get<std::string>();
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

namespace {

/// A master is held in memory once. Throws UnfitError.
void require_room(const Session& s, std::size_t exposure) {
    const Exposure& e = s.exposures[exposure];
    const std::uint64_t bytes = static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height) *
                                static_cast<std::uint64_t>(e.planes) * sizeof(float);
    if (bytes <= s.context.memory.for_buffers()) return;
    throw UnfitError(fmt::format("is {} x {} pixels: a master of that size needs {:.1f} GB of memory, the budget is "
                                 "{:.1f} GB",
                                 e.width, e.height, 1e-9 * static_cast<double>(bytes),
                                 1e-9 * static_cast<double>(s.context.memory.bytes)),
                     s.path_of(exposure), "Give more with --memory, or leave it out");
}

/// Finds a master or makes it.
ReadyMaster ready_master(Session& s, const MasterPlan& plan) {
    if (plan.existing) return adopt(s, plan);
    const Basis basis = master_basis(s, plan);
    const std::string key = basis.key();
    const fs::path file = master_file(s, plan, key);
    if (auto report = finished_master(s, plan, key)) return {effective_key(key, *report), file, std::move(*report)};
    if (const auto why = failed_master(s, key)) throw DataError(*why, {}, "Mend the files, or leave them out");
    require_room(s, plan.members.front());
    fs::create_directories(s.masters_folder());
    ReadyMaster made;
    try {
        made = build(s, plan, key, file);
    } catch (const Error& e) {
        if (!dynamic_cast<const InputError*>(&e) && !dynamic_cast<const DataError*>(&e)) throw;
        std::vector<std::string> unread;
        for (const std::size_t i : plan.members)
            if (s.unread.count(s.exposures[i].path)) unread.push_back(s.exposures[i].path);
        // A fault in reading something else, its offset say, may pass: then the next run simply tries again.
        const bool lasting = !dynamic_cast<const InputError*>(&e) || dynamic_cast<const UnfitError*>(&e);
        if (lasting) s.ledger.set_fact(key, json_text({{"failed", e.what_failed()}, {"unread", unread}}));
        throw;
    }
    const std::string name = master_entry(plan);
    remember_intact(s, file);
    s.ledger.set_fact(key, json_text({{"report", made.report}}));
    s.ledger.set_choice("file/" + name, key);
    s.ledger.set_choice("basis/" + name, basis.text());
    made.key = effective_key(key, made.report);
    return made;
}

} // namespace

void make_masters(Session& s) {
    const auto& plans = s.pairing.masters;
    s.masters.assign(plans.size(), std::nullopt);
    const std::vector<std::size_t> order = needed_masters(s.pairing);
    s.context.progress.begin("masters", static_cast<std::int64_t>(order.size()));
    for (const std::size_t i : order) {
        s.context.workers.cancel().check();
        const MasterPlan& plan = plans[i];
        const auto tell_failure = [&](const Error& e) {
            s.report.findings.push_back({Level::warning,
                                         "master-failed",
                                         {e.file().string()},
                                         fmt::format("master {} was not made: {}", plan.name, e.what_failed()),
                                         e.remedy()});
        };
        try {
            s.masters[i] = ready_master(s, plan);
            const MasterReport& made = s.masters[i]->report;
            for (const auto& [path, why] : made.left_out)
                s.set_aside(path, why, fmt::format("{} was made without it", plan.name));
            if (!made.doubts.empty())
                s.report.findings.push_back({Level::warning,
                                             "master-doubtful",
                                             {made.file},
                                             fmt::format("master {}: {}", made.name, fmt::join(made.doubts, "; ")),
                                             "Look at its frames, or take them again"});
            s.report.masters.push_back(made);
        } catch (const InputError& e) {
            tell_failure(e);
            // What is chosen without it is chosen anew once its file can be read.
            if (!dynamic_cast<const UnfitError*>(&e)) s.unread.insert(e.file().generic_string());
        } catch (const DataError& e) {
            tell_failure(e);
        }
        s.context.progress.advance();
    }
    s.context.progress.end();
    settle_cameras(s);
}

} // namespace kasane
