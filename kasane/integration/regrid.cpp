#include <kasane/integration/regrid.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <mutex>

namespace kasane {

namespace {

/// Pixels of the source along the side of one of the canvas: where both overlap, at a lattice; 1 where they do not.
double widest_scale(const Transform& to_frame, const Canvas& canvas, const Region& source, double& middle_area) {
    constexpr int kLattice = 17;
    double widest = 0, nearest = std::numeric_limits<double>::infinity();
    middle_area = 1;
    for (int row = 0; row < kLattice; ++row)
        for (int column = 0; column < kLattice; ++column) {
            const Point c{(column + 0.5) / kLattice * canvas.width, (row + 0.5) / kLattice * canvas.height};
            const Point p = to_frame.map(c);
            if (!(p.x >= 0 && p.y >= 0 && p.x < source.width && p.y < source.height)) continue;
            const double area = std::abs(to_frame.at(c).determinant());
            widest = std::max(widest, std::sqrt(area));
            const double off = std::hypot(p.x - 0.5 * source.width, p.y - 0.5 * source.height);
            if (off < nearest) nearest = off, middle_area = area;
        }
    return widest > 0 ? widest : 1;
}

class RegridPass final : public TilePass {
public:
    RegridPass(StackFrame frame, RegriddedImage& out) : frame_(std::move(frame)), out_(out) {}

    std::uint64_t bytes(std::int64_t pixels) const override {
        // Fine samples, and the source's pixels with their quality bits beneath.
        const auto fine = static_cast<std::uint64_t>(pixels) * static_cast<std::uint64_t>(out_.parts * out_.parts);
        return fine * static_cast<std::uint64_t>(out_.pixels.planes()) * 3 * sizeof(float) + (1u << 16);
    }

    void run(const Region& r, MappedMemory& mapped) override {
        const int k = out_.parts, planes = out_.pixels.planes();
        Image fine(r.width * k, r.height * k, planes);
        std::vector<View<float>> views;
        for (int p = 0; p < planes; ++p)
            views.push_back(fine.plane(p));
        const auto resampler = take();
        constexpr double kRinging = 8; // sigmas of contrast
        resampler->resample(frame_, {r.x * k, r.y * k, r.width * k, r.height * k}, kRinging, views);
        mapped.touched(frame_.source->mapped_bytes(resampler->source()));
        give(resampler);
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x) {
                int covered = 0;
                for (int p = 0; p < planes; ++p) {
                    double sum = 0;
                    int n = 0;
                    for (int j = 0; j < k; ++j)
                        for (int i = 0; i < k; ++i)
                            if (const float v = fine(x * k + i, y * k + j, p); std::isfinite(v)) sum += v, ++n;
                    out_.pixels(r.x + x, r.y + y, p) = n ? static_cast<float>(sum / n) : kNoData;
                    covered = std::max(covered, n);
                }
                out_.coverage(r.x + x, r.y + y) = static_cast<float>(covered) / static_cast<float>(k * k);
            }
    }

    void release() override { frame_.source->release(); }

private:
    std::shared_ptr<Resampler> take() {
        const std::lock_guard lock(mutex_);
        if (idle_.empty()) return std::make_shared<Resampler>();
        auto one = idle_.back();
        idle_.pop_back();
        return one;
    }
    void give(std::shared_ptr<Resampler> one) {
        const std::lock_guard lock(mutex_);
        idle_.push_back(std::move(one));
    }

    StackFrame frame_;
    RegriddedImage& out_;
    std::mutex mutex_;
    std::vector<std::shared_ptr<Resampler>> idle_;
};

} // namespace

RegriddedImage regrid(const std::shared_ptr<const PlaneSource>& source, const Transform& to_frame, const Canvas& canvas,
                      const std::vector<double>& noise, const Context& context) {
    RegriddedImage out;
    constexpr double kAsFine = 1.2; // source pixels a sample, up to which nothing folds back that could be told
    constexpr int kMost = 8;
    const double scale = widest_scale(to_frame, canvas, source->bounds(), out.area);
    out.parts = std::clamp(static_cast<int>(std::ceil(scale / kAsFine)), 1, kMost);
    const std::uint64_t bytes = static_cast<std::uint64_t>(canvas.bounds().area()) *
                                static_cast<std::uint64_t>(source->planes() + 1) * sizeof(float);
    if (bytes > context.memory.for_buffers())
        throw DataError(fmt::format("on a grid of {} x {} pixels it takes {:.1f} GB of memory, the budget is {:.1f} GB",
                                    canvas.width, canvas.height, 1e-9 * static_cast<double>(bytes),
                                    1e-9 * static_cast<double>(context.memory.bytes)),
                        source->path(), "Give more with --memory");
    out.pixels = Image(canvas.width, canvas.height, source->planes());
    out.coverage = Image(canvas.width, canvas.height);
    StackFrame frame;
    frame.source = source;
    const double part = 1.0 / out.parts; // a fine pixel's place on the canvas
    const Transform fine = to_frame.after({part, 0, 0.5 * part - 0.5, 0, part, 0.5 * part - 0.5});
    for (int p = 0; p < source->planes(); ++p) {
        const double sigma = static_cast<std::size_t>(p) < noise.size() ? noise[static_cast<std::size_t>(p)] : 0;
        frame.planes.push_back({fine, {}, sigma > 0 ? sigma : std::numeric_limits<double>::infinity()});
    }
    RegridPass pass(std::move(frame), out);
    run_tiles(pass, canvas.bounds(), {.result_bytes = bytes}, context);
    return out;
}

} // namespace kasane
