#include <kasane/report/show.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

ShowReport::Plane statistics_of(const Image& image) {
    ShowReport::Plane p;
    std::vector<float> values;
    values.reserve(image.pixels().size());
    double sum = 0;
    for (const float v : image.pixels())
        if (std::isfinite(v)) {
            values.push_back(v);
            sum += v;
        }
    p.no_data =
        1 - static_cast<double>(values.size()) / static_cast<double>(std::max<std::size_t>(1, image.pixels().size()));
    if (values.empty()) return p;
    p.mean = sum / static_cast<double>(values.size());
    const auto [low, high] = std::minmax_element(values.begin(), values.end());
    p.minimum = *low;
    p.maximum = *high;
    p.median = median_in_place(values);
    const RobustStatistics s = image_statistics(image.plane());
    p.background = s.location;
    constexpr int kLag = 3; // pixels: neighbours in a resampled image share noise, and would flatter it
    p.noise = background_noise(image.plane(), kLag);
    return p;
}

std::string number(const std::optional<double>& v, const char* unit) {
    return v ? fmt::format("{:g}{}", *v, unit) : "-";
}

} // namespace

ShowReport examine(const FrameReader& reader, const FrameSummary& summary) {
    ShowReport r;
    r.file = reader.path().string();
    r.exposure = describe_exposure(reader.path().string(), summary);
    if (r.exposure.made_by_kasane && r.exposure.role == Role::light) r.stated_noise = reader.header().number("NOISE");
    r.combined = static_cast<int>(std::clamp(reader.header().number("NCOMBINE").value_or(1), 1.0, 1e6));
    for (int p = 0; p < reader.planes(); ++p) {
        const Image image = read_plane(reader, p);
        r.planes.push_back(statistics_of(image));
        if (p > 0 || r.exposure.role == Role::flat || r.exposure.role == Role::dark || r.exposure.role == Role::bias)
            continue;
        constexpr double kUsable = 0.92; // share of the full scale
        const double full = r.exposure.saturation.value_or(r.exposure.bits == 16 ? 65535 : 0);
        const StarList stars =
            detect_stars(image.plane(), {.saturation = static_cast<float>(r.combined > 1 ? 0 : kUsable * full),
                                         .electrons_per_adu = r.exposure.electrons_per_adu.value_or(0)});
        r.stars = static_cast<int>(std::lround(stars.count));
        r.fwhm = stars.fwhm;
        r.eccentricity = stars.eccentricity;
        const int factor = std::max(1, (std::max(image.width(), image.height()) + 899) / 900);
        const Image small = averaged_down(image.plane(), factor);
        r.streaks = find_streaks({small.plane(), factor, stars.background, stars.stars, stars.fwhm});
        r.found = stars.stars;
    }
    return r;
}

std::string show_text(const ShowReport& r) {
    const Exposure& e = r.exposure;
    std::string out =
        fmt::format("{}\n  {} x {} pixels{}, {}, {}\n", r.file, e.width, e.height,
                    e.planes > 1 ? fmt::format(" x {} planes", e.planes) : "",
                    e.bits < 0 ? fmt::format("{}-bit float", -e.bits) : fmt::format("{}-bit integer", e.bits),
                    format_name(e.format));
    std::string role(role_name(e.role));
    if (e.is_master) role = "master " + role;
    if (r.combined > 1) role += fmt::format(" of {} frames", r.combined);
    out += fmt::format("  {} ({})\n", role, e.source(Field::role).text());
    out += fmt::format("  target {}, filter {}{}\n", e.target.empty() ? "-" : e.target,
                       e.filter.empty() ? "-" : e.filter, e.cfa.empty() ? "" : ", colour filter array " + e.cfa);
    out += fmt::format("  exposure {}, start {}\n", number(e.seconds, " s"), e.start.empty() ? "-" : e.start);
    out += fmt::format("  camera {}", e.camera.empty() ? "-" : e.camera);
    if (e.gain) out += fmt::format(", {} {:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain);
    if (e.offset) out += fmt::format(", offset {:g}", *e.offset);
    if (e.electrons_per_adu) out += fmt::format(", {:g} e-/ADU", *e.electrons_per_adu);
    if (const auto t = e.sensor_temperature()) out += fmt::format(", sensor {:g} C", *t);
    out += fmt::format(", binning {} x {}\n", e.binning_x, e.binning_y);
    if (const double arcsec = arcsec_per_pixel(e); arcsec > 0)
        out += fmt::format("  telescope {}, {:g} mm, {:.2f} arcsec/pixel\n", e.telescope.empty() ? "-" : e.telescope,
                           *e.focal_length_mm, arcsec);
    out += "\n";
    Table levels({"plane", "minimum", "median", "mean", "maximum", "background", "noise", "no data"});
    for (std::size_t p = 0; p < r.planes.size(); ++p) {
        const ShowReport::Plane& s = r.planes[p];
        const auto f = [](double v) { return std::abs(v) < 20 ? fmt::format("{:.4f}", v) : fmt::format("{:.1f}", v); };
        levels.add({fmt::format("{}", p + 1), f(s.minimum), f(s.median), f(s.mean), f(s.maximum), f(s.background),
                    f(s.noise), fmt::format("{:.2f} %", 100 * s.no_data)});
    }
    out += levels.text();
    if (r.stars > 0)
        out += fmt::format("\n  {} stars{}{}\n", r.stars,
                           r.fwhm > 0 ? fmt::format(", FWHM {:.2f} pixels, eccentricity {:.2f}", r.fwhm, r.eccentricity)
                                      : "",
                           r.streaks.empty() ? "" : fmt::format(", {} streaks", r.streaks.size()));
    if (r.stated_noise)
        out += fmt::format("\n  background noise by its header: {:.2f} ADU, as without resampling, which lowers it\n",
                           *r.stated_noise);
    if (!r.preview.empty()) out += fmt::format("\n  preview: {}\n", r.preview);
    return out;
}

std::string calibration_text(const CalibrationLook& l) {
    std::string out = fmt::format("\nCalibrated as in {}\n", l.project);
    const auto part = [&](const char* what, const std::string& name, const std::string& why) {
        out += fmt::format("  {:<6} {}{}\n", what, name.empty() ? "none" : name,
                           why.empty() || why == "none" ? "" : fmt::format(" ({})", why));
    };
    part("dark", l.dark, l.dark_note.empty() ? l.dark_reason : l.dark_reason + "; " + l.dark_note);
    if (!l.bias.empty()) part("bias", l.bias, "for the scaled dark");
    part("flat", l.flat, l.flat_reason);
    out += "\n";
    const auto percent = [](double v) {
        return std::isfinite(v) ? fmt::format("{:.2f} %", 100 * v) : std::string("-");
    };
    Table t({"", "before", "after"});
    t.add({"corners over middle", percent(l.before.corner_ratio), percent(l.after.corner_ratio)});
    t.add({"unevenness of the illumination", percent(l.before.unevenness), percent(l.after.unevenness)});
    t.add({"hot and cold pixels", fmt::format("{}", l.before.defects), fmt::format("{}", l.after.defects)});
    out += t.text();
    out += fmt::format("  {} pixels were replaced by their neighbours\n", l.defects_repaired);
    // Nebula and sky are in both columns: what is left after is no fault of the flat unless a finding says so.
    constexpr double kNotable = 0.03;
    if (std::abs(l.after.corner_ratio - 1) > kNotable || l.after.unevenness > kNotable)
        out += "  What is left after is the scene's as well: a nebula in the middle, or a sky that is brighter on one\n"
               "  side, looks like dark corners\n";
    if (l.flat_fit.measured && l.flat_fit.doubt.empty())
        out += "  The flat fits this light, as far as the light itself can tell\n";
    if (!l.picture.empty())
        out +=
            fmt::format("\n  before and after, and the {} x {} pixels from ({}, {}) on, where they differ most: {}\n",
                        l.crop.width, l.crop.height, l.crop.x, l.crop.y, l.picture);
    if (!l.findings.empty()) out += "\nFindings\n" + findings_text(l.findings);
    return out;
}

nlohmann::json to_json(const CalibrationLook& l) {
    const auto figures = [](const Illumination& i) {
        return nlohmann::json{{"corner_ratio", i.corner_ratio}, {"unevenness", i.unevenness}, {"defects", i.defects}};
    };
    nlohmann::json findings = nlohmann::json::array();
    for (const Finding& f : l.findings)
        findings.push_back(to_json(f));
    return {{"file", l.file},
            {"project", l.project},
            {"dark", l.dark},
            {"bias", l.bias},
            {"flat", l.flat},
            {"dark_note", l.dark_note},
            {"before", figures(l.before)},
            {"after", figures(l.after)},
            {"defects_repaired", l.defects_repaired},
            {"flat_fit",
             {{"measured", l.flat_fit.measured},
              {"strength", l.flat_fit.strength},
              {"sigma", l.flat_fit.sigma},
              {"fine", std::isfinite(l.flat_fit.fine) ? nlohmann::json(l.flat_fit.fine) : nlohmann::json(nullptr)},
              {"turned", l.flat_fit.turned}}},
            {"crop", {l.crop.x, l.crop.y, l.crop.width, l.crop.height}},
            {"picture", l.picture},
            {"findings", findings}};
}

nlohmann::json to_json(const ShowReport& r) {
    nlohmann::json planes = nlohmann::json::array();
    for (const auto& p : r.planes)
        planes.push_back({{"minimum", p.minimum},
                          {"median", p.median},
                          {"mean", p.mean},
                          {"maximum", p.maximum},
                          {"background", p.background},
                          {"noise", p.noise},
                          {"no_data", p.no_data}});
    return {{"file", r.file},
            {"preview", r.preview},
            {"exposure", to_json(r.exposure)},
            {"combined", r.combined},
            {"stated_noise", r.stated_noise ? nlohmann::json(*r.stated_noise) : nlohmann::json(nullptr)},
            {"planes", planes},
            {"stars", r.stars},
            {"fwhm", r.fwhm},
            {"eccentricity", r.eccentricity},
            {"streaks", r.streaks.size()}};
}

Raster<std::uint8_t> mark_detections(const Raster<std::uint8_t>& picture, const ShowReport& report) {
    constexpr std::uint8_t kColour[3] = {255, 190, 80};
    Raster<std::uint8_t> out(picture.width(), picture.height(), 3);
    for (int p = 0; p < 3; ++p)
        std::copy_n(picture.plane(std::min(p, picture.planes() - 1)).data, out.bounds().area(), out.plane(p).data);
    const double factor = std::max(1.0, static_cast<double>(report.exposure.width) / std::max(1, picture.width()));
    const auto dot = [&](double x, double y) {
        const auto i = static_cast<int>(std::lround((x + 0.5) / factor - 0.5)),
                   j = static_cast<int>(std::lround((y + 0.5) / factor - 0.5));
        if (!out.bounds().contains({i, j, 1, 1})) return;
        for (int p = 0; p < 3; ++p)
            out(i, j, p) = kColour[p];
    };
    for (const Star& s : report.found) {
        const double radius = std::max(5 * factor, 1.7 * std::max(s.fwhm, report.fwhm));
        const double flat = std::sqrt(1 - std::min(0.9, s.eccentricity * s.eccentricity)), turn = radians(s.angle);
        const int steps = static_cast<int>(8 * radius / factor) + 8;
        for (int k = 0; k < steps; ++k) {
            const double t = 2 * kPi * k / steps;
            double u = radius * std::cos(t), v = radius * flat * std::sin(t);
            if (s.saturated) { // a square
                const double most = std::max(std::abs(std::cos(t)), std::abs(std::sin(t)));
                u = radius * std::cos(t) / most;
                v = radius * std::sin(t) / most;
            }
            dot(s.x + u * std::cos(turn) - v * std::sin(turn), s.y - u * std::sin(turn) - v * std::cos(turn));
        }
    }
    for (const Streak& s : report.streaks) {
        const double length = std::max(1.0, std::hypot(s.x1 - s.x0, s.y1 - s.y0)), nx = (s.y1 - s.y0) / length,
                     ny = (s.x0 - s.x1) / length, beside = 8 * factor;
        for (double t = 0; t < length; t += factor)
            if (std::fmod(t / factor, 14) < 8)
                for (const double side : {-beside, beside})
                    dot(s.x0 + t * -ny + side * nx, s.y0 + t * nx + side * ny);
    }
    return out;
}

Raster<std::uint8_t> render_preview(const FrameReader& reader) {
    const int planes = reader.planes() == 3 ? 3 : 1;
    Image image(reader.width(), reader.height(), planes);
    std::vector<double> scales;
    for (int p = 0; p < planes; ++p) {
        reader.read(reader.bounds(), image.plane(p), p);
        if (const auto scale = reader.header().number(fmt::format("CHSCALE{}", p + 1))) scales.push_back(*scale);
    }
    return render_planes(image, choose_stretches(image, scales));
}

} // namespace kasane
