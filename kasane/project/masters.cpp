// Stage 2: calibration masters, each built once for its inputs.
#include <kasane/project/session.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>

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
    h.set("CREATOR", "Kasane " KASANE_VERSION, "program that made this file");
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
    h.add_history(m.combination + ".");
    if (plan.role == Role::flat)
        h.add_history("Offset removed: " + plan.offset_reason + ". Frames levelled by colour, mean 1 in each.");
    for (const std::size_t i : members)
        h.add_history("from " + s.exposures[i].path);
    return h;
}

/// Reads what an existing master says of itself; pixels of a flat need not have mean 1.
ReadyMaster adopt(const Session& s, const MasterPlan& plan) {
    const Exposure& e = s.exposures[plan.members.front()];
    const auto reader = s.open(plan.members.front());
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
    r.combination = "made before, " + (e.made_by_kasane ? std::string("by Kasane") : std::string("elsewhere"));
    r.reused = true;
    r.members = {e.path};
    return {master_basis(s, plan).key(), s.path_of(plan.members.front()), r};
}

/// Opens the frames of a plan; those that cannot be opened are set aside.
using LeftOut = std::vector<std::pair<std::string, std::string>>;

std::vector<std::size_t> open_members(Session& s, const MasterPlan& plan,
                                      std::vector<std::shared_ptr<const FrameReader>>& frames, LeftOut& left_out) {
    std::vector<std::size_t> members;
    for (const std::size_t i : plan.members) {
        try {
            frames.push_back(s.open(i));
            members.push_back(i);
        } catch (const InputError& e) {
            left_out.emplace_back(s.exposures[i].path, e.what_failed());
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
            left_out.emplace_back(s.exposures[members[static_cast<std::size_t>(at)]].path, e.what_failed());
            frames.erase(bad);
            members.erase(members.begin() + at);
        }
    }
}

ReadyMaster build(Session& s, const MasterPlan& plan, const std::string& key, const fs::path& file) {
    const Stopwatch clock;
    std::unique_ptr<FrameReader> offset;
    if (plan.offset && s.masters[*plan.offset]) offset = open_frame(s.masters[*plan.offset]->file);
    std::vector<std::size_t> members;
    LeftOut left_out;
    const MasterResult m = build_from_good(s, plan, offset.get(), members, left_out);
    write_fits(file, {{m.pixels.plane(), provenance(s, plan, m, members), {}, m.pixels.planes()}});
    MasterReport r;
    r.name = plan.name;
    r.role = role_name(plan.role);
    r.file = fs::relative(file, s.output).string();
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
    r.left_out = std::move(left_out);
    return {key, file, r};
}

fs::path master_file(const Session& s, const MasterPlan& plan) {
    return s.output / "masters" / (plan.name + ".fits");
}

} // namespace

Basis master_basis(const Session& s, const MasterPlan& plan) {
    Basis b;
    b.set("kind", "master")
        .set("numerics", kNumerics)
        .set("role", std::string(role_name(plan.role)))
        .set("name", plan.name);
    for (const std::size_t i : plan.members) {
        b.input(s.exposures[i].identity, s.exposures[i].path);
        if (s.exposures[i].turn) b.set("turn of " + s.exposures[i].identity, value_text(s.exposures[i], Field::turn));
    }
    if (plan.offset) {
        const MasterPlan& offset = s.pairing.masters[*plan.offset];
        b.set("offset " + offset.name, master_basis(s, offset).key());
    }
    if (plan.offset_level) b.set("offset_level", fmt::format("{:g}", *plan.offset_level));
    return b;
}

std::vector<std::size_t> needed_masters(const Pairing& pairing) {
    const auto& plans = pairing.masters;
    std::vector<bool> needed(plans.size(), false);
    for (const StackPlan& stack : pairing.stacks)
        for (const LightPlan& l : stack.lights)
            for (const auto& m : {l.dark, l.bias, l.flat})
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
    const fs::path file = master_file(s, plan);
    std::error_code failed;
    if (!body || !fs::exists(file, failed)) return std::nullopt;
    try {
        const auto json = nlohmann::json::parse(*body);
        if (json.at("size").get<std::uint64_t>() != fs::file_size(file)) return std::nullopt;
        const auto current = s.ledger.choice("file/masters/" + plan.name + ".fits");
        if (!current || *current != key) return std::nullopt;
        auto report = json.at("report").get<MasterReport>();
        report.reused = true;
        report.members.clear(); // files may have moved since
        for (const std::size_t i : plan.members)
            report.members.push_back(s.exposures[i].path);
        return report;
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

void make_masters(Session& s) {
    const auto& plans = s.pairing.masters;
    s.masters.assign(plans.size(), std::nullopt);
    const fs::path folder = s.output / "masters";
    const std::vector<std::size_t> order = needed_masters(s.pairing);
    s.context.progress.begin("masters", static_cast<std::int64_t>(order.size()));
    for (const std::size_t i : order) {
        s.context.workers.cancel().check();
        const MasterPlan& plan = plans[i];
        try {
            if (plan.existing) {
                s.masters[i] = adopt(s, plan);
            } else {
                const Basis basis = master_basis(s, plan);
                const std::string key = basis.key();
                const fs::path file = master_file(s, plan);
                if (auto report = finished_master(s, plan, key)) {
                    s.masters[i] = ReadyMaster{key, file, std::move(*report)};
                } else {
                    fs::create_directories(folder);
                    s.masters[i] = build(s, plan, key, file);
                    const std::string name = "masters/" + plan.name + ".fits";
                    const nlohmann::json fact = {{"size", fs::file_size(file)}, {"report", s.masters[i]->report}};
                    s.ledger.set_fact(key, "master", json_text(fact));
                    s.ledger.set_choice("file/" + name, key);
                    s.ledger.set_choice("basis/" + name, basis.text());
                }
                for (const auto& [path, why] : s.masters[i]->report.left_out)
                    s.set_aside(path, why, fmt::format("{} was made without it", plan.name));
            }
            s.report.masters.push_back(s.masters[i]->report);
        } catch (const InputError& e) {
            s.report.findings.push_back({Level::warning,
                                         "master-failed",
                                         {e.file().string()},
                                         fmt::format("master {} was not made: {}", plan.name, e.what_failed()),
                                         e.remedy()});
        } catch (const DataError& e) {
            s.report.findings.push_back({Level::warning,
                                         "master-failed",
                                         {e.file().string()},
                                         fmt::format("master {} was not made: {}", plan.name, e.what_failed()),
                                         e.remedy()});
        }
        s.context.progress.advance();
    }
    s.context.progress.end();
}

} // namespace kasane
