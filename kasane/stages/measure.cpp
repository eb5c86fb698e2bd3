// Stage 3: measuring each light once.
#include <kasane/stages/measure.hpp>

#include <kasane/stages/cameras.hpp>
#include <kasane/stages/defect_record.hpp>
#include <kasane/stages/reference_groups.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/ledger/codec.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {

constexpr std::uint32_t kRecord = 0x4b530009; // kind and version of the bytes

void encode(Writer& w, const Measures& m) {
    w.put(m.count).put(m.threshold).put(m.fwhm).put(m.eccentricity).put(m.angle).put(m.alignment);
    w.put(m.background).put(m.noise).put(m.noise_from_level).put(m.flat_noise_share);
    w.put(m.mesh.cell)
        .put(m.mesh.global_level)
        .put(m.mesh.global_sigma)
        .put(m.mesh.texture)
        .put(m.mesh.level.width())
        .put(m.mesh.level.height());
    const SkyMeans& means = m.mesh.means;
    w.put(means.cell).put(means.width).put(means.height).put(means.values.width()).put(means.values.height());
    for (const Image* i : {&m.mesh.level, &m.mesh.sigma, &means.values}) // an empty one has no pixels
        for (const float v : i->pixels())
            w.put(v);
    w.put(static_cast<std::uint32_t>(m.stars.size()));
    for (const Star& s : m.stars) {
        w.put(s.x).put(s.y);
        for (const double v : {s.flux, s.flux_sigma, s.peak, s.fwhm, s.eccentricity, s.angle, s.position_sigma})
            w.put(static_cast<float>(v));
        w.put(s.saturated);
    }
}

void encode(Writer& w, const OwnCorrections& own) {
    for (const DefectList* list : {&own.defects, &own.spilled})
        encode(w, *list);
    for (const auto* lines : {&own.rows, &own.columns}) {
        w.put(static_cast<std::uint32_t>(lines->size()));
        for (const float v : *lines)
            w.put(v);
    }
}

/// False for sizes that cannot be.
bool decode(Reader& r, Measures& m) {
    for (double* v :
         {&m.count, &m.threshold, &m.fwhm, &m.eccentricity, &m.angle, &m.alignment, &m.background, &m.noise})
        *v = r.take<double>();
    m.noise_from_level = r.take<bool>();
    m.flat_noise_share = r.take<double>();
    m.mesh.cell = r.take<int>();
    m.mesh.global_level = r.take<float>();
    m.mesh.global_sigma = r.take<float>();
    m.mesh.texture = r.take<float>();
    const int w = r.take<int>(), h = r.take<int>();
    if (w < 1 || h < 1 || w > 10000 || h > 10000) return false;
    SkyMeans& means = m.mesh.means;
    means.cell = r.take<int>(), means.width = r.take<int>(), means.height = r.take<int>();
    const int mw = r.take<int>(), mh = r.take<int>();
    if (means.cell < 1 || mw < 0 || mh < 0 || mw > 10000 || mh > 10000) return false;
    m.mesh.level = m.mesh.sigma = Image(w, h);
    if (mw > 0 && mh > 0) means.values = Image(mw, mh);
    for (Image* i : {&m.mesh.level, &m.mesh.sigma, &means.values})
        for (float& v : i->pixels())
            v = r.take<float>();
    const auto n = r.take<std::uint32_t>();
    for (std::uint32_t i = 0; i < n; ++i) {
        Star s;
        s.x = r.take<double>();
        s.y = r.take<double>();
        for (double* v : {&s.flux, &s.flux_sigma, &s.peak, &s.fwhm, &s.eccentricity, &s.angle, &s.position_sigma})
            *v = r.take<float>();
        s.saturated = r.take<bool>();
        m.stars.push_back(s);
    }
    return true;
}

bool decode(Reader& r, OwnCorrections& own) {
    if (!decode(r, own.defects) || !decode(r, own.spilled)) return false;
    for (auto* lines : {&own.rows, &own.columns}) {
        const auto n = r.take<std::uint32_t>();
        if (n > 1000000) return false;
        lines->resize(n);
        for (float& v : *lines)
            v = r.take<float>();
    }
    return true;
}

/// To so many digits as a header keeps, so that a master found in a library gives the same as when it was made.
double rounded(double v) {
    return std::stod(fmt::format("{:.5g}", v));
}

/// What the masters of a light and its camera tell of its noise. Unknown without a dark: its current is in no bias.
SensorNoise sensor_noise(const Session& s, const LightPlan& light, double electrons_per_adu) {
    SensorNoise n;
    const auto report = [&](const std::optional<std::size_t>& m) {
        return m && s.masters[*m] ? &s.masters[*m]->report : nullptr;
    };
    const MasterReport *dark = report(light.dark), *bias = report(light.bias), *flat = report(light.flat);
    if (!s.exposures[light.exposure].linear || !dark || s.pairing.masters[*light.dark].role != Role::dark) return n;
    if (light.second_dark || !(dark->frame_noise > 0)) return n; // of a mixture nobody knows the shares beforehand
    n.electrons_per_adu = electrons_per_adu;
    const auto square = [](double v) { return v * v; };
    n.dark_variance = square(dark->frame_noise);
    n.subtracted_variance = square(dark->noise);
    if (bias) {
        const double read = square(bias->frame_noise), k = light.dark_scale;
        n.dark_variance = read + k * std::max(0.0, n.dark_variance - read);
        n.subtracted_variance = square(k * dark->noise) + square((1 - k) * bias->noise);
    }
    if (flat)
        n.flat_noise =
            s.pairing.masters[*light.flat].existing && flat->level > 0 ? flat->noise / flat->level : flat->noise;
    for (double* v : {&n.dark_variance, &n.subtracted_variance, &n.flat_noise})
        *v = rounded(*v);
    return n;
}

MeasureOptions options_for(const Session& s, const LightPlan& light) {
    using Lone = CalibrationRecipe::Lone;
    const Exposure& e = s.exposures[light.exposure];
    const CalibrationRecipe& c = s.recipe.calibration;
    MeasureOptions o;
    const bool dark_fits = light.dark && !light.bias && s.pairing.masters[*light.dark].role == Role::dark;
    o.own.lone_pixels = c.lone_pixels == Lone::on || (c.lone_pixels == Lone::automatic && !dark_fits);
    o.own.spills = c.spills;
    o.own.equalise_rows = c.equalise_rows;
    o.own.equalise_columns = c.equalise_columns;
    o.detect = s.recipe.grading.detect;
    o.kept_stars = std::max(o.kept_stars, o.detect.most);
    const NoiseModel model = noise_model(s, e);
    o.detect.electrons_per_adu = model.electrons_per_adu;
    o.sensor = sensor_noise(s, light, model.electrons_per_adu);
    o.detect.saturation = static_cast<float>(model.saturation);
    return o;
}

} // namespace

std::string encode_measures(const ExposureMeasures& m) {
    Writer w;
    w.put(kRecord).put(static_cast<std::uint32_t>(m.planes.size()));
    for (const Measures& plane : m.planes)
        encode(w, plane);
    encode(w, m.own);
    w.put(m.pile.top).put(m.pile.piled);
    w.put(m.width).put(m.height).put(m.darkened_edge).put(m.preview_scale);
    w.put(static_cast<std::uint32_t>(m.streaks.size()));
    for (const Streak& s : m.streaks)
        w.put(s);
    for (const float v : m.saturated.pixels()) // as large as the mesh
        w.put(v);
    return std::move(w.bytes);
}

std::shared_ptr<const ExposureMeasures> decode_measures(const std::string& bytes) {
    try {
        Reader r(bytes);
        if (r.take<std::uint32_t>() != kRecord) return nullptr;
        auto m = std::make_shared<ExposureMeasures>();
        m->planes.resize(std::min(r.take<std::uint32_t>(), 3u));
        for (Measures& plane : m->planes)
            if (!decode(r, plane)) return nullptr;
        if (m->planes.empty() || !decode(r, m->own)) return nullptr;
        m->pile.top = r.take<float>();
        m->pile.piled = r.take<bool>();
        m->width = r.take<int>();
        m->height = r.take<int>();
        m->darkened_edge = r.take<double>();
        m->preview_scale = r.take<PreviewScale>();
        constexpr std::uint32_t kMostStreaks = 1000;
        m->streaks.resize(std::min(r.take<std::uint32_t>(), kMostStreaks));
        for (Streak& s : m->streaks)
            s = r.take<Streak>();
        m->saturated = Image(m->main().mesh.level.width(), m->main().mesh.level.height());
        for (float& v : m->saturated.pixels())
            v = r.take<float>();
        return r.at_end() ? m : nullptr;
    } catch (const DataError&) {
        return nullptr;
    }
}

namespace {

/// A preview that cannot be kept is no reason to lose the measures.
void keep_preview(const Session& s, const std::string& key, const Raster<std::uint8_t>& preview) {
    const auto file = preview_file(s, key);
    std::error_code failed;
    std::filesystem::create_directories(file.parent_path(), failed);
    try {
        write_jpeg(file, preview); // in Kasane's own folder, by a name of its own
    } catch (const OutputError&) {
        std::filesystem::remove(file, failed);
    }
}

} // namespace

std::filesystem::path preview_file(const Session& s, const std::string& key) {
    return memory_folder(s.options) / "previews" / key.substr(0, 2) / (key + ".jpg");
}

std::string measure_key(const Session& s, const Calibrations& calibrations, const LightPlan& light) {
    return calibrations.measure_key_of(light, [&] {
        const Exposure& e = s.exposures[light.exposure];
        return Key("measures").add(e.identity, e.turn, options_for(s, light), calibrations.key(light)).result();
    });
}

std::vector<Measured> measure_lights(Session& s, Calibrations& calibrations,
                                     const std::vector<const LightPlan*>& lights) {
    std::vector<Measured> out(lights.size());
    std::vector<std::size_t> todo;
    std::uint64_t largest = 1;
    for (std::size_t i = 0; i < lights.size(); ++i) {
        const std::string key = measure_key(s, calibrations, *lights[i]);
        std::error_code failed;
        const bool seen = !s.wants_previews || std::filesystem::exists(preview_file(s, key), failed);
        if (const auto known = seen ? s.ledger.fact(key) : std::nullopt) out[i].measures = decode_measures(*known);
        if (out[i].measures) continue;
        todo.push_back(i);
        const Exposure& e = s.exposures[lights[i]->exposure];
        const std::uint64_t bytes = e.planes == 3 ? 13 : e.cfa.empty() ? 5 : 17; // a pixel
        const std::uint64_t whole = static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height) * bytes;
        if (whole > s.context.memory.for_buffers()) {
            out[i].problem = fmt::format("is {} x {} pixels: to measure it takes {:.1f} GB of memory, the budget is "
                                         "{:.1f} GB",
                                         e.width, e.height, 1e-9 * static_cast<double>(whole),
                                         1e-9 * static_cast<double>(s.context.memory.bytes));
            out[i].remedy = "Give more with --memory, or leave it out";
            todo.pop_back();
            continue;
        }
        largest = std::max(largest, whole);
    }
    // Views are opened one after another (they share masters and defect lists), pixels are read in parallel.
    std::vector<std::shared_ptr<const FrameView>> views(todo.size());
    s.context.progress.begin("measure", static_cast<std::int64_t>(todo.size()));
    const auto fail = [&](std::size_t k, const FileFailure& failure) {
        Measured& m = out[todo[k]];
        m.problem = failure.what_failed;
        m.remedy = failure.remedy;
        m.unread = !failure.unfit;
        if (failure.file != s.path_of(lights[todo[k]]->exposure)) // a master's, say
            m.problem = fmt::format("{} {}", failure.file.lexically_proximate(s.options.folder).string(), m.problem);
    };
    for (std::size_t k = 0; k < todo.size(); ++k) {
        s.context.workers.cancel().check();
        if (const auto failure = attempt([&] { views[k] = calibrations.view(*lights[todo[k]]); })) fail(k, *failure);
    }
    s.context.workers.for_each(
        todo.size(),
        [&](std::size_t k) {
            Measured& m = out[todo[k]];
            const LightPlan& light = *lights[todo[k]];
            if (views[k]) {
                try {
                    Raster<std::uint8_t> preview;
                    auto measures = std::make_shared<const ExposureMeasures>(
                        measure_exposure(*views[k], options_for(s, light), &preview));
                    s.note_content(light.exposure, views[k]->source().raw());
                    const std::string key = measure_key(s, calibrations, light);
                    keep_preview(s, key, preview);
                    const std::string bytes = encode_measures(*measures);
                    s.ledger.set_fact(key, bytes);
                    m.measures = decode_measures(bytes); // as they will be read the next time, to the last bit
                } catch (const InputError& e) {
                    fail(k, FileFailure::of(e));
                } catch (const std::bad_alloc&) {
                    m.problem = "could not be measured: there is not enough memory";
                    m.remedy = "Close other programs, or leave it out";
                    m.unread = true;
                }
                views[k].reset();
            }
            s.context.progress.advance();
        },
        s.context.memory.fitting(largest, s.context.workers.threads()));
    s.context.progress.end();
    for (std::size_t i = 0; i < out.size(); ++i)
        if (out[i].unread) s.unread.insert(s.exposures[lights[i]->exposure].path);
    return out;
}

} // namespace kasane
