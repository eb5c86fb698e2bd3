#include <kasane/stages/rejected_lights.hpp>

#include <kasane/base/error.hpp>

#include <array>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <limits>

namespace kasane {

namespace {

constexpr float kNone = std::numeric_limits<float>::quiet_NaN();

int nearest(double v) {
    return std::abs(v) < 1e9 ? static_cast<int>(std::lround(v)) : -1; // also of what is nowhere
}

/// Makes NaN the pixels of a row of which `rejected(x)` says so; those that had data count.
template <class F>
std::int64_t blank_row(float* row, int width, F rejected) {
    std::int64_t count = 0;
    for (int x = 0; x < width; ++x) {
        if (std::isnan(row[x]) || !rejected(x)) continue;
        row[x] = kNone;
        ++count;
    }
    return count;
}

} // namespace

RejectedLights::RejectedLights(const Session& session, const Assembler& assembler, const JointStack& stack,
                               const GroupCanvas& at, const std::filesystem::path& scratch)
    : session_(session), to_canvas_(at.canvas.to_reference().inverse()) {
    const Context& given = session.context;
    std::vector<Light> lights = assembler.lights_of(stack);
    for (;;) {
        const Assembly a = assembler.assemble(stack.plan, lights);
        frames_.clear();
        if (a.frames.empty()) return;
        const int planes = static_cast<int>(a.backgrounds.size());
        const std::uint64_t bits = RejectedPixels::bytes(at.canvas, a.frames.size(), planes);
        // Half of it is left for the work itself.
        const bool fits = bits + result_bytes(at.canvas, planes) <= given.memory.for_buffers() / 2;
        MemoryBudget memory = given.memory;
        std::shared_ptr<Scratch> file;
        if (fits)
            memory.bytes -= bits;
        else
            file = std::make_shared<Scratch>(scratch, given.memory);
        const Context context{given.workers, memory, given.progress, fits ? std::filesystem::path() : scratch};
        pixels_ = RejectedPixels(at.canvas, a.frames.size(), planes, file);
        given.progress.begin("reject " + stack.plan.name, at.canvas.bounds().area());
        const MasterLight made =
            integrate(a.frames, at.canvas, a.backgrounds, context, assembler.options_for(stack.plan, a), &pixels_);
        given.progress.end();
        if (made.failure) {
            assembler.drop_or_raise(*a.lights[made.failure->frame], made.failure->what);
            continue;
        }
        for (std::size_t k = 0; k < a.lights.size(); ++k)
            frames_[a.lights[k]->exposure->path] = k;
        text_ = fmt::format("{} among {} lights", rejection_text(made.combine.rejection), a.lights.size());
        return;
    }
}

std::int64_t RejectedLights::blank_registered(const Light& light, const Canvas& grid, Image& image) const {
    const std::size_t frame = frames_.at(light.exposure->path);
    const Affine to_canvas = to_canvas_.after(grid.to_reference());
    std::atomic<std::int64_t> count{0};
    session_.context.workers.for_each(static_cast<std::size_t>(image.height()), [&](std::size_t row) {
        const int y = static_cast<int>(row);
        for (int p = 0; p < image.planes(); ++p)
            count += blank_row(image.plane(p).row(y), image.width(), [&](int x) {
                double u = 0, v = 0;
                to_canvas.apply(x, y, u, v);
                return pixels_.at(frame, p, nearest(u), nearest(v));
            });
    });
    return count;
}

std::int64_t RejectedLights::blank_own(const Light& light, const FrameView& view, Image& image) const {
    const std::size_t frame = frames_.at(light.exposure->path);
    const int cell = view.cell();
    const auto rejected_at = [&](int plane, int x, int y) {
        const double half = 0.5 * (cell - 1); // of a cell, from its first pixel to its middle
        const Point reference =
            light.to_frame[static_cast<std::size_t>(plane)].unmap({(x - half) / cell, (y - half) / cell});
        double u = 0, v = 0;
        to_canvas_.apply(reference.x, reference.y, u, v);
        return pixels_.at(frame, plane, nearest(u), nearest(v));
    };
    const bool mosaic = !view.source().calibration().cfa.empty();
    std::array<int, 3> plane_of{-1, -1, -1}; // by colour; -1: the colour was not used
    for (int p = 0; mosaic && p < view.planes(); ++p)
        plane_of[static_cast<std::size_t>(view.colour(p))] = p;
    std::atomic<std::int64_t> count{0};
    session_.context.workers.for_each(static_cast<std::size_t>(image.height()), [&](std::size_t row) {
        const int y = static_cast<int>(row);
        for (int p = 0; p < image.planes(); ++p)
            count += blank_row(image.plane(p).row(y), image.width(), [&](int x) {
                const int plane = mosaic ? plane_of[static_cast<std::size_t>(view.plane_of(x, y))] : p;
                return plane >= 0 && rejected_at(plane, x, y);
            });
    });
    return count;
}

} // namespace kasane
