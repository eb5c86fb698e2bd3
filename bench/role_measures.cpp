// How often the pixels alone tell the wrong role: heaps of frames of cameras, skies and habits drawn at random.
#include "fidelity_measures.hpp"

#include <kasane/frames/look.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/sky/render.hpp>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <mutex>

namespace kasane::bench {

namespace {

using sky::Random;

/// A number between two others, evenly in its logarithm.
double log_uniform(Random& random, double low, double high) {
    return low * std::pow(high / low, random.uniform());
}

struct Frame {
    Role role;
    const char* kind;
    double seconds;
    Look look;
};

/// All frames of one heap: a camera, a scene, and what its owner took with them.
std::vector<Frame> heap(std::uint64_t seed, const Workers& workers) {
    Random random(seed, 1);
    sky::Instrument n;
    n.seed = seed;
    n.width = 2 * static_cast<int>(random.uniform(160, 380));
    n.height = 2 * static_cast<int>(random.uniform(120, 260));
    n.cfa = random.uniform() < 0.4 ? (random.uniform() < 0.5 ? "RGGB" : "GBRG") : "";
    n.saturation_adu = std::array<double, 3>{4095, 16383, 65535}.at(static_cast<std::size_t>(random.uniform(0, 3)));
    const double full = n.saturation_adu;
    n.gain = log_uniform(random, 0.3, 3) * 65535 / full * 0.5;
    n.offset = full * log_uniform(random, 0.002, 0.03);
    n.read_noise = std::max(0.8 * n.gain, log_uniform(random, 1.2, 10));
    n.offset_pattern = log_uniform(random, 0.05, 1.0) * n.read_noise / n.gain;
    n.dark_rate = log_uniform(random, 0.001, 0.3);
    n.glow = random.uniform() < 0.5 ? 0 : log_uniform(random, 0.02, 0.5);
    n.hot_share = log_uniform(random, 0.0008, 0.01);
    n.vignetting = random.uniform(0.04, 0.5);
    n.moffat_beta = random.uniform(2.5, 4.5);
    const bool colour = !n.cfa.empty();
    const std::string filter = colour ? "" : random.uniform() < 0.3 ? "Ha" : "L";
    sky::SceneOptions o;
    o.seed = seed * 31 + 7;
    o.width = n.width;
    o.height = n.height;
    o.filters = colour ? std::vector<std::string>{"R", "G", "B"} : std::vector<std::string>{filter};
    o.stars = static_cast<int>(log_uniform(random, 200, 1200));
    o.slope = random.uniform(0.6, 1.0);
    o.nebula = random.uniform() < 0.5 ? 0.2 : log_uniform(random, 0.5, 5);
    o.galaxy = random.uniform() < 0.5 ? 0 : 6;
    const sky::Scene scene = sky::make_scene(o, workers);
    std::vector<sky::DustShadow> dust;
    for (int i = static_cast<int>(random.uniform(0, 6)); i > 0; --i)
        dust.push_back({random.uniform(0, n.width), random.uniform(0, n.height), random.uniform(8, 30),
                        random.uniform(0.03, 0.2)});
    const auto maps = sky::make_maps(n, dust);
    const double seconds = filter == "Ha" ? log_uniform(random, 60, 900) : log_uniform(random, 20, 600);
    const double sky_rate = std::min(log_uniform(random, 0.05, 12), 0.45 * full * n.gain / seconds);
    const double seeing = random.uniform(1.7, 5.0);

    std::vector<Frame> frames;
    const auto add = [&](Role role, const char* kind, double time, const Image& electrons, double rays) {
        const auto counts = sky::expose(electrons, {n, maps}, {time, n.reference_temperature, rays}, random.bits());
        Image image(n.width, n.height);
        std::copy(counts.pixels().begin(), counts.pixels().end(), image.pixels().begin());
        frames.push_back({role, kind, time, look_at(MemoryFrame(std::move(image)), {.windows = 0})});
    };
    const Image nothing(n.width, n.height);
    for (int i = 0; i < 5; ++i) {
        sky::Conditions c;
        c.transparency = random.uniform(0.6, 1);
        c.sky = sky_rate * random.uniform(0.8, 1.3);
        c.gradient_x = 0.1 * random.normal();
        c.gradient_y = 0.1 * random.normal();
        c.fwhm = seeing * random.uniform(0.9, 1.15);
        c.ellipticity = random.uniform(0, 0.35);
        c.pointing.offset_x = 10 * random.normal();
        c.pointing.offset_y = 10 * random.normal();
        c.pointing.rotation = random.uniform(0, 360);
        add(Role::light, "light", seconds, sky::render_light(scene, filter, {n, maps}, c, seconds), 0.02 * seconds);
    }
    const double flat_level = full * n.gain * random.uniform(0.15, 0.7);
    for (int i = 0; i < 4; ++i) {
        Image e = maps.illumination;
        for (float& v : e.pixels())
            v *= static_cast<float>(flat_level);
        if (colour) // a tinted panel
            for (int y = 0; y < n.height; ++y)
                for (int x = 0; x < n.width; ++x)
                    if (n.cfa[static_cast<std::size_t>((y & 1) * 2 + (x & 1))] != 'G') e(x, y) *= 0.6f;
        add(Role::flat, "flat", 2, e, 0);
    }
    for (int i = 0; i < 4; ++i) {
        sky::Conditions c;
        const double time = log_uniform(random, 0.5, 15);
        c.sky = full * n.gain * random.uniform(0.15, 0.6) / time;
        c.gradient_y = 0.03 * random.normal();
        c.fwhm = seeing;
        c.pointing.offset_x = 40 * random.normal();
        c.pointing.offset_y = 40 * random.normal();
        add(Role::flat, "sky flat", time, sky::render_light(scene, filter, {n, maps}, c, time), 0);
    }
    for (int i = 0; i < 4; ++i)
        add(Role::dark, "dark", seconds, nothing, 0.01 * seconds);
    for (int i = 0; i < 4; ++i)
        add(Role::bias, "bias", 0.001, nothing, 0);
    return frames;
}

struct Score {
    int files = 0, wrong = 0;
};

} // namespace

std::vector<Figure> role_errors(const Context& context, std::uint64_t first_seed, int heaps) {
    std::map<std::string, Score> scores;
    std::map<std::string, int> taken_for;
    std::mutex mutex;
    context.workers.for_each(static_cast<std::size_t>(heaps), [&](std::size_t k) {
        const Workers alone(1);
        const auto frames = heap(first_seed + k, alone);
        LookContext known;
        for (const Frame& f : frames)
            add_to_context(known, f.look);
        const std::lock_guard lock(mutex);
        for (const Frame& f : frames)
            for (const bool told : {false, true}) { // without and with the exposure time in the header
                LookContext about = known;
                if (told) about.seconds = f.seconds;
                const RoleGuess g = guess_role(f.look, about);
                Score& s = scores[fmt::format("{}, exposure time {}", f.kind, told ? "known" : "not known")];
                ++s.files;
                if (g.role == f.role) continue;
                ++s.wrong;
                ++taken_for[fmt::format("{} taken for {} ({}): {:.0f} %, {} [signal {:.4f} of the full scale, {:.1f} "
                                        "of the noise, falloff {:.2f}, heap {}]",
                                        f.kind, role_name(g.role), told ? "time known" : "time not known",
                                        100 * g.confidence, g.reason, (f.look.level - *known.floor) / f.look.full_scale,
                                        (f.look.level - *known.floor) / f.look.noise,
                                        f.look.falloff / std::max(1e-9, f.look.level - *known.floor), k)];
            }
    });
    std::vector<Figure> out;
    Score all;
    for (const auto& [kind, s] : scores) {
        out.push_back({"roles", fmt::format("{}: wrong of {} files", kind, s.files), static_cast<double>(s.wrong), "",
                       s.files / 500.0});
        all.files += s.files;
        all.wrong += s.wrong;
    }
    out.push_back({"roles", fmt::format("all: share wrong of {} judgements of {} heaps", all.files, heaps),
                   100.0 * all.wrong / all.files, "%", 0.2});
    for (const auto& [what, count] : taken_for)
        fmt::print(stderr, "{} x {}\n", count, what);
    return out;
}

} // namespace kasane::bench
