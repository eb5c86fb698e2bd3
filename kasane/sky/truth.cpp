#include <kasane/sky/truth.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <set>

namespace kasane::sky {

nlohmann::json truth_json(const Scenario& s, const Scene& scene) {
    using nlohmann::json;
    json lights = json::array();
    for (const Shot& shot : s.shots) {
        if (shot.role != Shot::Role::light) continue;
        const Conditions& c = shot.conditions;
        lights.push_back({{"file", shot.path},
                          {"filter", shot.filter},
                          {"seconds", shot.seconds},
                          {"start", shot.start},
                          {"scene_to_pixel", scene_to_pixel(c.pointing, s.instrument.width, s.instrument.height)},
                          {"rotation_deg", c.pointing.rotation},
                          {"transparency", c.transparency},
                          {"sky_electrons_per_second", c.sky},
                          {"gradient", {c.gradient_x, c.gradient_y}},
                          {"fwhm_px", c.fwhm},
                          {"ellipticity", c.ellipticity},
                          {"trails", c.trails.size()},
                          {"flaws", c.flaws}});
    }
    json files = json::array(), mistakes = json::array();
    for (const Shot& shot : s.shots) {
        constexpr std::array<const char*, 4> kRoles = {"light", "dark", "flat", "bias"};
        files.push_back({{"file", shot.path}, {"role", kRoles.at(static_cast<std::size_t>(shot.role))}});
        if (!shot.mistake.empty()) mistakes.push_back({{"file", shot.path}, {"code", shot.mistake}});
    }
    for (const Scenario::Copy& c : s.copies)
        if (!c.mistake.empty()) mistakes.push_back({{"file", c.to}, {"code", c.mistake}});
    json stars = json::array();
    for (const SceneStar& star : scene.stars)
        stars.push_back({{"x", star.x}, {"y", star.y}, {"rate", star.rate}});
    return {{"target", s.target},
            {"seed", s.seed},
            {"width", s.instrument.width},
            {"height", s.instrument.height},
            {"gain_electrons_per_adu", s.instrument.gain},
            {"read_noise_electrons", s.instrument.read_noise},
            {"distortion", s.instrument.distortion},
            {"moffat_beta", s.instrument.moffat_beta},
            {"files", files},
            {"mistakes", mistakes},
            {"lights", lights},
            {"stars", stars}};
}

void write_truth(const Scenario& s, const Scene& scene, const std::vector<InstrumentMaps>& maps,
                 const std::filesystem::path& folder) {
    require_writable_folder(folder);
    write_text_safely(folder / "truth.json", truth_json(s, scene).dump(1) + "\n", Over::anything);
    std::set<std::string> filters;
    double best = 99;
    for (const Shot& shot : s.shots)
        if (shot.role == Shot::Role::light) {
            if (s.instrument.cfa.empty())
                filters.insert(shot.filter);
            else
                filters.insert({"R", "G", "B"});
            best = std::min(best, shot.conditions.fwhm);
        }
    Conditions centred;
    centred.fwhm = best;
    for (const auto& filter : filters) {
        if (!scene.extended.contains(filter)) continue;
        const Image truth = render_truth(scene, filter, s.instrument, centred);
        Header h;
        h.set("FILTER", filter);
        h.set("BUNIT", "electron/s");
        h.set("FWHM", best, "[px] of the stars");
        write_fits(folder / fmt::format("scene-{}.fits", filter), {{truth.plane(), h}}, Over::anything);
    }
    for (std::size_t i = 0; i < maps.size(); ++i)
        write_fits(folder / fmt::format("illumination-{}.fits", i + 1), {{maps[i].illumination.plane(), {}}},
                   Over::anything);
    Image defects(s.instrument.width, s.instrument.height);
    std::copy(maps.front().defects.pixels().begin(), maps.front().defects.pixels().end(), defects.pixels().begin());
    write_fits(folder / "defects.fits", {{defects.plane(), {}}}, Over::anything);
}

} // namespace kasane::sky
