// Building calibration masters against the least that must be done: reading every frame once and adding it up.
#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

using Frames = std::vector<std::shared_ptr<const FrameReader>>;

/// Frames of noise about a level: one field of noise, begun elsewhere for each frame.
struct Kind {
    const char* name;
    int count, width, height;
    double level, sigma; // ADU
};

Frames write_frames(const std::filesystem::path& folder, const Kind& kind) {
    const auto& [name, count, width, height, level, sigma] = kind;
    sky::Random random(7);
    std::vector<std::uint16_t> noise(static_cast<std::size_t>(width) * 64 + 100003);
    for (auto& v : noise)
        v = static_cast<std::uint16_t>(std::clamp(std::round(level + sigma * random.normal()), 0.0, 65535.0));
    Frames frames;
    Raster<std::uint16_t> image(width, height);
    for (int f = 0; f < count; ++f) {
        for (int y = 0; y < height; ++y) {
            const std::size_t start = (static_cast<std::size_t>(f) * 7919 + static_cast<std::size_t>(y) * 104729) %
                                      (noise.size() - static_cast<std::size_t>(width));
            std::copy_n(noise.data() + start, width, image.plane().row(y));
        }
        const auto file = folder / fmt::format("{}_{:03}.fits", name, f);
        write_fits_u16(file, image.plane(), {}, Over::anything);
        frames.push_back(open_fits(file));
    }
    return frames;
}

void streaming_mean(const Frames& frames, const Workers& workers) {
    const int width = frames.front()->width(), height = frames.front()->height();
    Image sum(width, height);
    constexpr int kBand = 64;
    for (const auto& f : frames)
        workers.for_each(static_cast<std::size_t>((height + kBand - 1) / kBand), [&](std::size_t b) {
            const Region r{0, static_cast<int>(b) * kBand, width,
                           std::min(kBand, height - static_cast<int>(b) * kBand)};
            Image band(r.width, r.height);
            f->read(r, band.plane());
            float* to = sum.plane().row(r.y);
            for (std::size_t i = 0; i < band.pixels().size(); ++i)
                to[i] += band.pixels()[i];
        });
}

} // namespace

std::vector<Row> master_building(int count, int width, int height, const Context& context) {
    const TemporaryFolder folder;
    std::vector<Row> rows;
    for (const auto& [role, level, sigma] :
         {std::tuple{Role::dark, 500.0, 4.0}, std::tuple{Role::flat, 30000.0, 190.0}}) {
        const char* name = role == Role::dark ? "dark" : "flat";
        const Frames frames = write_frames(folder.path(), {name, count, width, height, level, sigma});
        streaming_mean(frames, context.workers); // warms the cache of the system
        double plain = 1e30, built = 1e30;
        for (int i = 0; i < 2; ++i) {
            plain = std::min(plain, seconds_of([&] { streaming_mean(frames, context.workers); }));
            built = std::min(built, seconds_of([&] { build_master(role, frames, nullptr, context); }));
        }
        rows.push_back({"M",
                        fmt::format("master {} of {} frames of {:.1f} MP ({:.2f} s) over a plain streaming mean", name,
                                    count, 1e-6 * width * height, built),
                        built / plain, "x", 4, false});
        for (const auto& f : frames)
            std::filesystem::remove(f->path());
    }
    return rows;
}

} // namespace kasane::bench
