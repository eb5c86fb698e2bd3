#include <kasane/report/watch_text.hpp>

#include <kasane/image/stretch.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/report/terminal_text.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

std::string noise_text(double noise) {
    return noise > 0 ? fmt::format("{:.3g}", noise) : "-";
}

/// Means over what each pixel of a smaller picture shows; NaN where nothing is.
Image shrunk(const Image& picture, int width, int height) {
    const double factor =
        std::max({1.0, static_cast<double>(picture.width()) / width, static_cast<double>(picture.height()) / height});
    const auto size = [&](int of) { return std::max(1, static_cast<int>(of / factor + 1e-9)); };
    Image small(size(picture.width()), size(picture.height()), picture.planes());
    const auto begin = [&](int at) { return static_cast<int>(at * factor); };
    for (int p = 0; p < small.planes(); ++p)
        for (int y = 0; y < small.height(); ++y)
            for (int x = 0; x < small.width(); ++x) {
                double sum = 0;
                int n = 0;
                for (int j = begin(y); j < std::min(picture.height(), std::max(begin(y) + 1, begin(y + 1))); ++j)
                    for (int i = begin(x); i < std::min(picture.width(), std::max(begin(x) + 1, begin(x + 1))); ++i)
                        if (const float v = picture.plane(p)(i, j); std::isfinite(v)) sum += v, ++n;
                small.plane(p)(x, y) = n > 0 ? static_cast<float>(sum / n) : std::numeric_limits<float>::quiet_NaN();
            }
    return small;
}

std::string line_of(const ArrivedLight& l) {
    const std::string at = l.start.size() >= 16 ? l.start.substr(11, 5) : "-";
    std::string out = fmt::format("{:<5}  {:<5} {}", at, clean(l.filter), clean(l.path));
    constexpr std::array<std::pair<Measure, const char*>, 4> shown = {
        {{Measure::fwhm, "FWHM"}, {Measure::stars, "stars"}, {Measure::eccentricity, "ecc."}, {Measure::sky, "sky"}}};
    for (const auto& [measure, name] : shown)
        if (std::isfinite(l.figures[measure]))
            out += fmt::format("  {} {}", name, value_text(measure, l.figures[measure]));
    out += l.verdict.keep ? (l.again ? "  kept now" : "  kept") : (l.again ? "  dropped now" : "  dropped");
    if (!l.verdict.reason.empty()) out += ": " + clean(l.verdict.reason);
    return out;
}

} // namespace

std::string watch_lines(const WatchNews& news, int columns, std::size_t most) {
    const auto width = static_cast<std::size_t>(columns);
    std::string out;
    const std::size_t left_out = news.lights.size() > most ? news.lights.size() - most : 0;
    if (left_out > 0)
        out += fmt::format("{} light{} {}\n", left_out, left_out == 1 ? "" : "s",
                           most == 0 ? "are here already" : "came, and then");
    for (std::size_t i = left_out; i < news.lights.size(); ++i)
        out += wrapped(line_of(news.lights[i]), 7, width) + "\n";
    for (const Finding& f : news.findings)
        out += findings_text({f}, columns);
    if (!news.problem.empty()) out += wrapped(clean(news.problem), 2, width) + "\n";
    return out;
}

std::string watch_table(const std::vector<GrowingMaster>& masters, int columns) {
    Table table({"stack", "kept", "dropped", "exposure", "effective", "noise", "in an hour", "FWHM"});
    for (const GrowingMaster& m : masters)
        table.add({clean(m.stack), std::to_string(m.kept), std::to_string(m.dropped), exposure_text(m.seconds),
                   exposure_text(m.effective_seconds), noise_text(m.noise), noise_text(m.noise_in_an_hour),
                   m.fwhm > 0 ? fmt::format("{:.2f}", m.fwhm) : "-"});
    return table.empty() ? std::string() : table.text(columns, {"effective", "in an hour", "dropped"});
}

Raster<std::uint8_t> growing_picture(const Image& picture) {
    return render_planes(picture, choose_stretches(picture));
}

std::string terminal_picture(const Image& picture, int columns, int rows, bool all_colours) {
    if (picture.empty() || columns < 1 || rows < 1) return {};
    const Raster<std::uint8_t> seen = growing_picture(shrunk(picture, columns, 2 * rows));
    const auto colour = [&](int x, int y, int of) {
        std::array<int, 3> c{};
        if (y < seen.height())
            for (int p = 0; p < 3; ++p)
                c[static_cast<std::size_t>(p)] = seen.plane(std::min(p, seen.planes() - 1))(x, y);
        if (all_colours) return fmt::format("\033[{};2;{};{};{}m", of, c[0], c[1], c[2]);
        constexpr int kFirstGrey = 232, kGreys = 24;
        return fmt::format("\033[{};5;{}m", of, kFirstGrey + c[1] * kGreys / 256);
    };
    constexpr int kFront = 38, kBehind = 48;
    std::string out;
    for (int y = 0; y < seen.height(); y += 2) {
        std::string last;
        for (int x = 0; x < seen.width(); ++x) {
            const std::string now = colour(x, y, kFront) + colour(x, y + 1, kBehind);
            if (now != last) out += now;
            last = now;
            out += "▀";
        }
        out += "\033[0m\n";
    }
    return out;
}

nlohmann::json to_json(const GrowingMaster& m) {
    nlohmann::json growth = nlohmann::json::array();
    for (const GrowingMaster::Step& s : m.growth)
        growth.push_back({s.seconds, s.noise});
    const auto known = [](double v) { return v > 0 ? nlohmann::json(v) : nlohmann::json(nullptr); };
    return {{"stack", m.stack},        {"filter", m.filter},
            {"kept", m.kept},          {"dropped", m.dropped},
            {"seconds", m.seconds},    {"effective_seconds", m.effective_seconds},
            {"noise", known(m.noise)}, {"noise_in_an_hour", known(m.noise_in_an_hour)},
            {"fwhm", known(m.fwhm)},   {"growth", growth},
            {"shown", m.shown},        {"version", m.version}};
}

nlohmann::json to_json(const WatchNews& news) {
    nlohmann::json lights = nlohmann::json::array(), masters = nlohmann::json::array(),
                   findings = nlohmann::json::array();
    for (const ArrivedLight& l : news.lights) {
        const auto value = [&](Measure m) {
            return std::isfinite(l.figures[m]) ? nlohmann::json(l.figures[m]) : nlohmann::json(nullptr);
        };
        lights.push_back({{"stack", l.stack},
                          {"filter", l.filter},
                          {"file", l.path},
                          {"start", l.start},
                          {"fwhm", value(Measure::fwhm)},
                          {"stars", value(Measure::stars)},
                          {"eccentricity", value(Measure::eccentricity)},
                          {"sky", value(Measure::sky)},
                          {"kept", l.verdict.keep},
                          {"reason", l.verdict.reason},
                          {"again", l.again}});
    }
    for (const GrowingMaster& m : news.masters)
        masters.push_back(to_json(m));
    for (const Finding& f : news.findings)
        findings.push_back(to_json(f));
    nlohmann::json out = {{"lights", lights}, {"masters", masters}, {"findings", findings}, {"seconds", news.seconds}};
    if (!news.problem.empty()) out["problem"] = news.problem;
    return out;
}

} // namespace kasane
