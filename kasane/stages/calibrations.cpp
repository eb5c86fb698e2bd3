// Opening what calibrates a light.
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/defect_record.hpp>
#include <kasane/stages/masks.hpp>
#include <kasane/stages/masters.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/calibration/dark_fit.hpp>
#include <kasane/io/reader.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {
constexpr std::size_t kNone = static_cast<std::size_t>(-1);
}

const ReadyMaster* Calibrations::ready(const std::optional<std::size_t>& master) const {
    return master && session_.masters[*master] ? &*session_.masters[*master] : nullptr;
}

std::string Calibrations::key(const LightPlan& light) const {
    // Every member of the plan and of the recipe is named here; what is left out says why.
    const auto& [exposure, dark, bias, dark_scale, second_dark, offset_level, flat, dark_reason, flat_reason] = light;
    const auto& [lone_pixels, rows, columns, spills, defects, defect_maps, fit_darks, library] =
        session_.recipe.calibration;
    const auto key_of = [&](const auto& m) { return ready(m) ? ready(m)->key : std::string("none"); };
    const Exposure& e = session_.exposures[exposure];
    std::vector<std::string> maps;
    for (const std::string& map : defect_maps)
        maps.push_back(fingerprint(session_.options.folder / map));
    Key k("calibration");
    k.add(key_of(dark), key_of(flat), key_of(bias), key_of(second_dark)); // their reasons change nothing
    if (ready(bias)) k.add(dark_scale);
    if (ready(bias) || ready(second_dark)) k.add(fit_darks, e.saturation);
    if (!ready(dark)) k.add(offset_level);
    k.add(e.cfa);
    if (!e.cfa.empty()) k.add(colour_method(session_, e));
    if (const std::string hidden = mask_key(session_, e); !hidden.empty()) k.add(hidden);
    return k.add(defects, maps).result(); // rows, columns, spills, lone pixels: options of measuring
}

const std::string& Calibrations::measure_key_of(const LightPlan& light,
                                                const std::function<std::string()>& make) const {
    {
        const std::lock_guard lock(keys_mutex_);
        const auto known = measure_keys_.find(light.exposure);
        if (known != measure_keys_.end()) return known->second;
    }
    std::string key = make();
    const std::lock_guard lock(keys_mutex_);
    return measure_keys_.try_emplace(light.exposure, std::move(key)).first->second;
}

std::shared_ptr<const FrameReader> Calibrations::reader(std::size_t master) {
    auto& r = readers_[master];
    const MasterPlan& plan = session_.pairing.masters[master];
    if (!r) r = plan.existing ? session_.open(plan.members.front()) : open_frame(session_.masters[master]->file);
    return r;
}

Calibrations::DefectKey Calibrations::defect_key(const LightPlan& light) const {
    const Exposure& e = session_.exposures[light.exposure];
    return {ready(light.dark) ? *light.dark : kNone, ready(light.flat) ? *light.flat : kNone,
            static_cast<std::size_t>(e.width), static_cast<std::size_t>(e.height)};
}

const DefectCounts& Calibrations::defect_counts(const LightPlan& light) const {
    static const DefectCounts none;
    const auto it = defects_.find(defect_key(light));
    return it == defects_.end() ? none : it->second.counts;
}

/// Defects that a person marked.
void Calibrations::add_marked(Mask& mask) const {
    const CalibrationRecipe& c = session_.recipe.calibration;
    for (const Region& marked : c.defects) {
        const Region r = intersect(marked, mask.bounds());
        for (int y = r.y; y < r.bottom(); ++y)
            std::fill_n(mask.plane().row(y) + r.x, r.width, std::uint8_t{1});
    }
    for (const std::string& file : c.defect_maps) {
        const Image map = read_plane(*open_frame(session_.options.folder / file, &session_.cache));
        if (map.bounds() != mask.bounds())
            throw UnfitError(fmt::format("is {} x {} pixels; the sensor has {} x {}", map.width(), map.height(),
                                         mask.width(), mask.height()),
                             session_.options.folder / file, "Give a map of the sensor's size in defect_maps");
        for (std::size_t i = 0; i < mask.pixels().size(); ++i)
            if (map.pixels()[i] > 0) mask.pixels()[i] = 1;
    }
}

std::shared_ptr<const DefectList> Calibrations::defects(const LightPlan& light) {
    const DefectKey key = defect_key(light);
    const std::size_t dark = key[0], flat = key[1];
    SensorDefects& d = defects_[key];
    if (d.list) return d.list;
    const Exposure& e = session_.exposures[light.exposure];
    const DefectOptions options{.cfa = CfaPattern(e.cfa)};
    const double frame_noise = dark != kNone ? ready(light.dark)->report.frame_noise : 0;
    const std::string fact = Key("defects")
                                 .add(dark != kNone ? ready(light.dark)->key : std::string("none"),
                                      flat != kNone ? ready(light.flat)->key : std::string("none"), frame_noise, e.cfa)
                                 .result();
    DefectList found;
    const auto remembered = session_.ledger.fact(fact);
    if (auto known = remembered ? decode_defects(*remembered) : std::nullopt) {
        found = std::move(known->first);
        d.counts = known->second;
    } else {
        found =
            find_defects(dark != kNone ? reader(dark).get() : nullptr, frame_noise,
                         flat != kNone ? reader(flat).get() : nullptr, options, &d.counts, &session_.context.workers);
        session_.ledger.set_fact(fact, encode_defects(found, d.counts));
    }
    const CalibrationRecipe& c = session_.recipe.calibration;
    if (!c.defects.empty() || !c.defect_maps.empty()) {
        Mask mask(e.width, e.height);
        for (const auto& [x, y] : found.places())
            mask(x, y) = 1;
        add_marked(mask);
        found = DefectList(mask);
    }
    d.list = std::make_shared<const DefectList>(std::move(found));
    return d.list;
}

Calibrations::DarkShare Calibrations::dark_share(const LightPlan& light) {
    DarkShare share{light.dark_scale, 0, {}};
    const bool scaled = ready(light.dark) && ready(light.bias), mixed = ready(light.dark) && ready(light.second_dark);
    if (!session_.recipe.calibration.fit_darks || (!scaled && !mixed)) return share;
    const Exposure& e = session_.exposures[light.exposure];
    const std::string fact = Key("dark fit").add(e.identity, e.turn, key(light), light.dark_scale).result();
    if (const auto known = session_.ledger.fact(fact)) {
        try {
            const auto json = nlohmann::json::parse(*known);
            return {json.at("factor").get<double>(), json.at("second").get<double>(),
                    json.at("reason").get<std::string>()};
        } catch (const nlohmann::json::exception&) { // of another version: measured again
        }
    }
    const auto raw = session_.open(light.exposure);
    DarkFitOptions o{.cfa = CfaPattern(e.cfa), .expected = light.dark_scale};
    if (e.saturation) o.saturation = 0.8 * *e.saturation;
    if (scaled) {
        const DarkFit fit = fit_dark_factor(*raw, *reader(*light.dark), reader(*light.bias).get(), o);
        share.factor = fit.factor;
        if (fit.measured())
            share.reason = fmt::format("dark x {:.3f} +- {:.3f} by its own hot pixels ({:.3f} expected)", fit.factor,
                                       fit.sigma, light.dark_scale);
    } else {
        const DarkFit fit = fit_dark_mixture(*raw, *reader(*light.dark), *reader(*light.second_dark), o);
        share.second_share = fit.second_share;
        if (fit.measured())
            share.reason = fmt::format("{:.0f} % of {} mixed in, by its own hot pixels", 100 * fit.second_share,
                                       session_.pairing.masters[*light.second_dark].name);
    }
    session_.require_unchanged(light.exposure);
    session_.ledger.set_fact(
        fact, json_text({{"factor", share.factor}, {"second", share.second_share}, {"reason", share.reason}}));
    return share;
}

std::shared_ptr<const FrameView> Calibrations::view(const LightPlan& light, std::shared_ptr<const OwnCorrections> own,
                                                    double saturation) {
    const Exposure& e = session_.exposures[light.exposure];
    CalibrationSet set;
    set.cfa = CfaPattern(e.cfa);
    set.own = std::move(own);
    set.saturation = static_cast<float>(saturation);
    set.hidden = mask_of(session_, e);
    if (ready(light.dark)) set.dark = reader(*light.dark);
    const DarkShare share = dark_share(light);
    if (ready(light.dark) && ready(light.bias)) {
        set.bias = reader(*light.bias);
        set.dark_scale = static_cast<float>(share.factor);
    }
    if (share.second_share > 0) {
        set.second_dark = reader(*light.second_dark);
        set.second_share = static_cast<float>(share.second_share);
    }
    if (!set.dark && light.offset_level) set.offset_level = static_cast<float>(*light.offset_level);
    if (ready(light.flat)) {
        set.flat = reader(*light.flat);
        const MasterReport& report = ready(light.flat)->report;
        if (session_.pairing.masters[*light.flat].existing)
            for (std::size_t c = 0; c < 3; ++c)
                if (const double level = report.colour_levels.size() == 3 ? report.colour_levels[c] : report.level;
                    level > 0)
                    set.flat_level[c] = static_cast<float>(level);
    }
    const CalibrationRecipe& c = session_.recipe.calibration;
    if (set.dark || set.flat || !c.defects.empty() || !c.defect_maps.empty()) set.defects = defects(light);
    std::shared_ptr<const FrameReader> raw = session_.open(light.exposure);
    raw->in_passing(); // the masters are read for every light
    auto view = std::make_shared<const CalibratedView>(std::move(raw), std::move(set));
    return std::make_shared<const FrameView>(std::move(view), colour_method(session_, e));
}

ColourMethod colour_method(const Session& session, const Exposure& light) {
    return light.cfa.empty() ? ColourMethod::adaptive : session.recipe.colour.of(light.filter);
}

} // namespace kasane
