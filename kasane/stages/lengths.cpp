#include <kasane/stages/lengths.hpp>

#include <kasane/image/statistics.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/stages/cameras.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>

namespace kasane {

namespace {

constexpr double kUsable = 0.9; // of a full pixel

} // namespace

UsableLevels::UsableLevels(const Session& session, const std::vector<std::vector<Light>>& lights) : session_(session) {
    std::map<std::string, std::vector<float>> piles;
    std::map<std::string, float> tops;
    for (const auto& stack : lights)
        for (const Light& l : stack) {
            if (!l.measures) continue;
            const PileUp& pile = l.measures->pile;
            const std::string camera = camera_key(*l.exposure);
            tops[camera] = std::max(tops[camera], pile.top);
            if (pile.piled) piles[camera].push_back(pile.top);
        }
    constexpr float kAlike = 1.05f; // what lies higher was not full there
    for (auto& [camera, levels] : piles) {
        const float level = median_in_place(levels);
        if (tops[camera] <= kAlike * level) full_[camera] = level;
    }
}

double UsableLevels::of(const Exposure& light) const {
    double full = noise_model(session_, light).saturation;
    if (const auto shown = full_.find(camera_key(light)); shown != full_.end())
        full = full > 0 ? std::min(full, shown->second) : shown->second;
    return kUsable * full;
}

std::vector<Region> burnt_regions(const ExposureMeasures& m) {
    constexpr float kMany = 0.02f; // of a cell
    std::vector<Region> out;
    const int cell = m.main().mesh.cell;
    for (int j = 0; j < m.saturated.height(); ++j)
        for (int i = 0; i < m.saturated.width(); ++i)
            if (m.saturated(i, j) >= kMany) out.push_back({i * cell, j * cell, cell, cell});
    return out;
}

void settle_lengths(Assembly& a) {
    std::vector<std::size_t> order(a.lights.size());
    std::iota(order.begin(), order.end(), 0u);
    const auto camera = [&](std::size_t k) { return camera_key(*a.lights[k]->exposure); };
    const auto seconds = [&](std::size_t k) { return a.lights[k]->exposure->seconds.value_or(0); };
    std::stable_sort(order.begin(), order.end(), [&](std::size_t x, std::size_t y) {
        const std::string cx = camera(x), cy = camera(y);
        return cx != cy ? cx < cy : seconds(x) < seconds(y);
    });
    std::vector<double> full_at(a.lights.size());
    constexpr double kAlike = 1.1;
    for (std::size_t from = 0, until = 0; from < order.size(); from = until) {
        std::vector<float> levels;
        for (until = from; until < order.size() && camera(order[until]) == camera(order[from]) &&
                           seconds(order[until]) <= kAlike * seconds(order[from]);
             ++until) {
            const StackFrame& f = a.frames[order[until]];
            const auto main = static_cast<std::size_t>(a.lights[order[until]]->main_plane());
            // Without a known saturation the exposure alone can tell.
            const double full = f.saturation > 0 ? f.saturation : 1;
            levels.push_back(static_cast<float>(full * f.planes[main].level.scale.value));
        }
        const double level = static_cast<double>(median_in_place(levels));
        for (std::size_t k = from; k < until; ++k)
            full_at[order[k]] = level;
    }
    const std::vector<int> lengths = lengths_of(full_at);
    for (std::size_t k = 0; k < a.frames.size(); ++k)
        a.frames[k].length = lengths[k];
}

std::string length_text(const LengthReport& l) {
    const double longest = l.seconds.empty() ? 0 : l.seconds.front(),
                 shortest = l.seconds.empty() ? 0 : l.seconds.back();
    if (!(longest > 0)) return "unknown exposure";
    if (!(shortest > 0)) return fmt::format("{:g} s or unknown", longest);
    return longest == shortest ? fmt::format("{:g} s", longest) : fmt::format("{:g} to {:g} s", shortest, longest);
}

void describe_lengths(const Assembly& a, const MasterLight& master, StackReport& report) {
    const LengthMatches& matches = a.matches;
    report.lengths.assign(static_cast<std::size_t>(count_lengths(a.frames)), {});
    for (std::size_t k = 0; k < a.frames.size(); ++k) {
        LengthReport& length = report.lengths[static_cast<std::size_t>(a.frames[k].length)];
        ++length.lights;
        const double seconds = a.lights[k]->exposure->seconds.value_or(0);
        if (std::find(length.seconds.begin(), length.seconds.end(), seconds) == length.seconds.end())
            length.seconds.push_back(seconds);
    }
    std::vector<double> made(report.lengths.size());
    double all = 0;
    if (master.lengths.width() > 0)
        for (const std::uint16_t value : master.lengths.pixels()) {
            if (value == 0) continue;
            const int length = value % MasterLight::kBurnt;
            if (length > 0) made[static_cast<std::size_t>(length - 1)] += 1;
            ++all;
        }
    for (std::size_t length = 0; length < report.lengths.size(); ++length) {
        LengthReport& l = report.lengths[length];
        std::sort(l.seconds.begin(), l.seconds.end(), std::greater<>());
        l.share = report.lengths.size() == 1 ? 1 : all > 0 ? made[length] / all : 0;
        std::vector<float> errors;
        for (std::size_t k = 0; k < a.frames.size(); ++k)
            if (static_cast<std::size_t>(a.frames[k].length) == length && !matches.planes.empty())
                if (const double e = matches.planes[static_cast<std::size_t>(a.lights[k]->main_plane())][k].error;
                    e > 0)
                    errors.push_back(static_cast<float>(e));
        if (!errors.empty()) l.matched = static_cast<double>(median_in_place(errors));
    }
    const BurntCells::Patch patch = master.burnt.largest();
    report.burnt = {static_cast<double>(master.burnt.pixels()),
                    patch.region.x,
                    patch.region.y,
                    patch.region.width,
                    patch.region.height,
                    static_cast<double>(patch.pixels)};
    constexpr double kPatch = 64; // pixels that are more than a hot one or a particle
    if (report.lengths.size() > 1 && report.burnt.largest > kPatch)
        report.doubts.push_back(
            {"burnt-in-all-lengths",
             {},
             fmt::format("{:.0f} pixels of {} are saturated in all lengths, {:.0f} of them within the {} x {} around "
                         "({}, {}): there it shows less light than there is",
                         report.burnt.pixels, report.name, report.burnt.largest, report.burnt.width,
                         report.burnt.height, report.burnt.x + report.burnt.width / 2,
                         report.burnt.y + report.burnt.height / 2),
             fmt::format("Take a few lights of less than {}", length_text(report.lengths.back()))});
}

} // namespace kasane
