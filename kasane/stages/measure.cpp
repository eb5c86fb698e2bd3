// Stage 3: measuring each light once.
#include <kasane/stages/measure.hpp>

#include <kasane/stages/cameras.hpp>
#include <kasane/stages/measure_record.hpp>
#include <kasane/stages/reference_groups.hpp>
#include <kasane/stages/shared_frames.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/io/jpeg.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {

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

void make_preview(const Session& s, const FrameView& view, const LightPlan& light, const std::string& key) {
    Raster<std::uint8_t> preview;
    measure_exposure(view, options_for(s, light), &preview);
    keep_preview(s, key, preview);
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
    const int at_once = s.context.memory.fitting(largest, s.context.workers.threads());
    const std::uint64_t taken = static_cast<std::uint64_t>(at_once) * largest, all = s.context.memory.for_buffers();
    SharedFrames shared(views, all > taken ? all - taken : 0);
    s.context.workers.for_each(
        todo.size(),
        [&](std::size_t k) {
            Measured& m = out[todo[k]];
            const LightPlan& light = *lights[todo[k]];
            if (const std::size_t next = k + static_cast<std::size_t>(at_once); next < todo.size())
                read_ahead(s.path_of(lights[todo[next]]->exposure));
            if (views[k]) {
                try {
                    Raster<std::uint8_t> preview;
                    auto room = shared.take_room();
                    auto measures = std::make_shared<const ExposureMeasures>(
                        measure_exposure(*shared.prepared(k, views[k]), options_for(s, light), &preview, room.get()));
                    shared.give_room(std::move(room));
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
                shared.done(k);
            }
            s.context.progress.advance();
        },
        at_once);
    s.context.progress.end();
    for (std::size_t i = 0; i < out.size(); ++i)
        if (out[i].unread) s.unread.insert(s.exposures[lights[i]->exposure].path);
    return out;
}

} // namespace kasane
