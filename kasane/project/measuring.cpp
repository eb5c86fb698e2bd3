// Stage 3: measuring each light once.
#include <kasane/project/session.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/project/codec.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {

constexpr double kSaturation16Bit =
    0.92 * 65535; // ADU after calibration; a little below full scale, for the flat's sake

constexpr std::uint32_t kRecord = 0x4b530001; // kind and version of the bytes

std::string encode(const Measures& m) {
    Writer w;
    w.put(kRecord).put(m.fwhm).put(m.eccentricity).put(m.background).put(m.noise);
    w.put(m.mesh.cell)
        .put(m.mesh.global_level)
        .put(m.mesh.global_sigma)
        .put(m.mesh.level.width())
        .put(m.mesh.level.height());
    for (const Image* i : {&m.mesh.level, &m.mesh.sigma})
        for (const float v : i->pixels())
            w.put(v);
    w.put(static_cast<std::uint32_t>(m.stars.size()));
    for (const Star& s : m.stars)
        w.put(s.x)
            .put(s.y)
            .put(s.flux)
            .put(s.flux_sigma)
            .put(s.peak)
            .put(s.fwhm)
            .put(s.eccentricity)
            .put(s.position_sigma)
            .put(s.saturated);
    return std::move(w.bytes);
}

/// Nothing if the bytes are of another version or damaged.
std::shared_ptr<const Measures> decode(const std::string& bytes) {
    try {
        Reader r(bytes);
        if (r.take<std::uint32_t>() != kRecord) return nullptr;
        auto m = std::make_shared<Measures>();
        m->fwhm = r.take<double>();
        m->eccentricity = r.take<double>();
        m->background = r.take<double>();
        m->noise = r.take<double>();
        m->mesh.cell = r.take<int>();
        m->mesh.global_level = r.take<float>();
        m->mesh.global_sigma = r.take<float>();
        const int w = r.take<int>(), h = r.take<int>();
        if (w < 1 || h < 1 || w > 10000 || h > 10000) return nullptr;
        for (Image* i : {&m->mesh.level, &m->mesh.sigma}) {
            *i = Image(w, h);
            for (float& v : i->pixels())
                v = r.take<float>();
        }
        const auto n = r.take<std::uint32_t>();
        for (std::uint32_t i = 0; i < n; ++i) {
            Star s;
            for (double* v : {&s.x, &s.y, &s.flux, &s.flux_sigma, &s.peak, &s.fwhm, &s.eccentricity, &s.position_sigma})
                *v = r.take<double>();
            s.saturated = r.take<bool>();
            m->stars.push_back(s);
        }
        return r.at_end() ? m : nullptr;
    } catch (const DataError&) {
        return nullptr;
    }
}

MeasureOptions options_for(const Exposure& e) {
    MeasureOptions o;
    o.detect.electrons_per_adu = e.electrons_per_adu.value_or(0);
    constexpr double kUsable = 0.92; // share of the stated full scale
    if (e.saturation)
        o.detect.saturation = static_cast<float>(kUsable * *e.saturation);
    else if (e.bits == 16)
        o.detect.saturation = static_cast<float>(kSaturation16Bit);
    return o;
}

} // namespace

std::string measure_key(const Session& s, const Calibrations& calibrations, const LightPlan& light) {
    return Digester()
        .add("measure")
        .add(kNumerics)
        .add(s.exposures[light.exposure].identity)
        .add(value_text(s.exposures[light.exposure], Field::turn))
        .add(value_text(s.exposures[light.exposure], Field::electrons_per_adu))
        .add(value_text(s.exposures[light.exposure], Field::saturation))
        .add(calibrations.key(light))
        .result();
}

std::vector<Measured> measure_lights(Session& s, Calibrations& calibrations,
                                     const std::vector<const LightPlan*>& lights) {
    std::vector<Measured> out(lights.size());
    std::vector<std::size_t> todo;
    std::uint64_t largest = 1;
    for (std::size_t i = 0; i < lights.size(); ++i) {
        if (const auto known = s.ledger.fact(measure_key(s, calibrations, *lights[i])))
            out[i].measures = decode(*known);
        if (out[i].measures) continue;
        todo.push_back(i);
        const Exposure& e = s.exposures[lights[i]->exposure];
        largest = std::max(largest, static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height) * 5);
    }
    // Views are opened one after another (they share masters and defect lists), pixels are read in parallel.
    std::vector<std::shared_ptr<const CalibratedView>> views(todo.size());
    s.context.progress.begin("measure", static_cast<std::int64_t>(todo.size()));
    for (std::size_t k = 0; k < todo.size(); ++k) {
        s.context.workers.cancel().check();
        try {
            views[k] = calibrations.view(*lights[todo[k]]);
        } catch (const InputError& e) {
            out[todo[k]].problem = e.what_failed();
            out[todo[k]].remedy = e.remedy();
        }
    }
    s.context.workers.for_each(
        todo.size(),
        [&](std::size_t k) {
            Measured& m = out[todo[k]];
            const LightPlan& light = *lights[todo[k]];
            if (views[k]) {
                try {
                    auto measures = std::make_shared<const Measures>(
                        measure_exposure(*views[k], options_for(s.exposures[light.exposure])));
                    s.ledger.set_fact(measure_key(s, calibrations, light), "measures", encode(*measures));
                    s.note_content(light.exposure, views[k]->raw());
                    m.measures = std::move(measures);
                } catch (const InputError& e) {
                    m.problem = e.what_failed();
                    m.remedy = e.remedy();
                }
                views[k].reset();
            }
            s.context.progress.advance();
        },
        s.context.memory.fitting(largest, s.context.workers.threads()));
    s.context.progress.end();
    return out;
}

} // namespace kasane
