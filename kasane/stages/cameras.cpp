// Gain, read noise and saturation of the cameras: determined once from flats, and kept.
#include <kasane/stages/cameras.hpp>

#include <kasane/image/statistics.hpp>

#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace kasane {

NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(CameraFacts, electrons_per_adu, read_noise, saturation, source)

namespace {

constexpr double kWrong = 0.1; // relative: several times the error of a photon transfer

/// What the flats at hand say of each camera.
std::map<std::string, CameraFacts> measured_cameras(const Session& s) {
    struct Values {
        std::vector<float> gains, noises, saturations;
        std::string source;
    };
    std::map<std::string, Values> found;
    for (std::size_t i = 0; i < s.masters.size(); ++i) {
        const MasterPlan& plan = s.pairing.masters[i];
        if (!s.masters[i] || plan.role != Role::flat || s.masters[i]->report.electrons_per_adu <= 0) continue;
        const MasterReport& r = s.masters[i]->report;
        Values& v = found[camera_key(s.exposures[plan.members.front()])];
        v.gains.push_back(static_cast<float>(r.electrons_per_adu));
        if (r.read_noise > 0) v.noises.push_back(static_cast<float>(r.read_noise));
        if (r.saturation > 0) v.saturations.push_back(static_cast<float>(r.saturation));
        v.source = v.source.empty() ? "photon transfer of " + plan.name : "photon transfer of the flats";
    }
    std::map<std::string, CameraFacts> out;
    for (auto& [key, v] : found) {
        const auto median = [](std::vector<float>& values) { return values.empty() ? 0.0 : median_in_place(values); };
        out[key] = {median(v.gains), median(v.noises), median(v.saturations), v.source};
    }
    return out;
}

} // namespace

std::string camera_key(const Exposure& e) {
    return sensor_key(e) + (e.gain ? fmt::format(" gain {:g}", *e.gain) : "");
}

void recall_cameras(Session& s) {
    s.cameras.clear();
    const std::string prefix = "camera/";
    for (const auto& [name, unused] : s.ledger.choices(prefix))
        if (const auto text = standing_choice(s, name)) {
            const auto json = nlohmann::json::parse(*text, nullptr, false);
            try {
                s.cameras[name.substr(prefix.size())] = json.get<CameraFacts>();
            } catch (const nlohmann::json::exception&) { // determined again
            }
        }
}

void settle_cameras(Session& s) {
    for (const auto& [key, now] : measured_cameras(s)) {
        const auto known = s.cameras.find(key);
        if (known != s.cameras.end()) {
            const double before = known->second.electrons_per_adu;
            if (std::abs(now.electrons_per_adu - before) <= kWrong * before) continue;
            s.report.findings.push_back(
                {Level::warning,
                 "camera-changed",
                 {},
                 fmt::format(
                     "the flats now say {:.3g} e-/ADU of {}; {:.3g} was known ({}). What rests on it is made again",
                     now.electrons_per_adu, key, before, known->second.source),
                 "If the gain was changed, let the headers say so, or give 'gain' in [[files]]"});
        }
        s.cameras[key] = now;
        remember_choice(s, "camera/" + key, json_text(nlohmann::json(now)));
    }
}

NoiseModel noise_model(const Session& s, const Exposure& light) {
    NoiseModel model;
    const auto camera = s.cameras.find(camera_key(light));
    const bool known = camera != s.cameras.end();
    if (known) {
        model.electrons_per_adu = camera->second.electrons_per_adu;
        model.source = camera->second.source;
    } else if (light.electrons_per_adu) {
        model.electrons_per_adu = *light.electrons_per_adu;
        model.source = light.source(Field::electrons_per_adu).text();
    }
    if (light.saturation)
        model.saturation = *light.saturation;
    else if (known && camera->second.saturation > 0)
        model.saturation = camera->second.saturation;
    else if (light.bits == 16)
        model.saturation = 65535;
    return model;
}

} // namespace kasane
