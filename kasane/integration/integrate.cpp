#include <kasane/integration/integrate.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/resample.hpp>

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <mutex>

namespace kasane {

namespace {

/// Positions along a row in fixed point with 32 fractional bits: exact sums, so that a pixel's position is the same
/// from whichever tile it is asked for.
class FixedPoint {
public:
    static constexpr double kOne = 4294967296.0;
    FixedPoint(double start, double step) : start_(std::llround(start * kOne)), step_(std::llround(step * kOne)) {}
    std::int64_t at(int x) const { return start_ + step_ * x; }
    std::int64_t step() const { return step_; }

private:
    std::int64_t start_, step_;
};

void split(const FixedPoint& line, int first, int count, int origin, std::int32_t* whole, float* fraction) {
    std::int64_t value = line.at(first);
    const std::int64_t step = line.step();
    for (int i = 0; i < count; ++i, value += step) {
        whole[i] = static_cast<std::int32_t>(value >> 32) - origin;
        fraction[i] = static_cast<float>(static_cast<std::int32_t>(static_cast<std::uint32_t>(value) >> 1)) * 0x1p-31f;
    }
}

/// The rectangle of the frame under an output rectangle, with the kernel's reach, cut to the frame with that reach.
Region source_box(const Affine& t, const Region& r, const Region& frame) {
    double x0 = 1e30, y0 = 1e30, x1 = -1e30, y1 = -1e30;
    for (const int x : {r.x, r.right() - 1})
        for (const int y : {r.y, r.bottom() - 1}) {
            double u = 0, v = 0;
            t.apply(x, y, u, v);
            x0 = std::min(x0, u), y0 = std::min(y0, v);
            x1 = std::max(x1, u), y1 = std::max(y1, v);
        }
    constexpr int kBefore = kLanczosRadius - 1, kAfter = kLanczosRadius + 1; // one more for rounding
    const Region wanted{static_cast<int>(std::floor(std::clamp(x0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(y0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(x1 - x0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2,
                        static_cast<int>(std::floor(std::clamp(y1 - y0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2};
    return intersect(
        wanted, {-kBefore, -kBefore, frame.width + kBefore + kLanczosRadius, frame.height + kBefore + kLanczosRadius});
}

/// Reads `box`, which may reach beyond the frame; the pixels there repeat the frame's edge.
void read_padded(const CalibratedView& view, const Region& box, View<float> out) {
    const Region inside = intersect(box, view.bounds());
    const Region at{inside.x - box.x, inside.y - box.y, inside.width, inside.height};
    view.read(inside, out.crop(at));
    if (inside == box) return;
    for (int y = at.y; y < at.bottom(); ++y) {
        std::fill(out.row(y), out.row(y) + at.x, out(at.x, y));
        std::fill(out.row(y) + at.right(), out.row(y) + out.width, out(at.right() - 1, y));
    }
    for (int y = 0; y < out.height; ++y)
        if (y < at.y || y >= at.bottom())
            std::copy_n(out.row(std::clamp(y, at.y, at.bottom() - 1)), out.width, out.row(y));
}

void normalise(const Normalization& level, const Region& region, double cx, double cy, View<float> v) {
    const auto scale = static_cast<float>(level.scale);
    const auto slope = static_cast<float>(level.slope_x);
    for (int y = 0; y < region.height; ++y) {
        const auto base = static_cast<float>(level.offset + level.slope_y * (region.y + y - cy) - level.slope_x * cx);
        float* row = v.row(y);
        for (int x = 0; x < region.width; ++x)
            row[x] = scale * row[x] + (base + slope * static_cast<float>(region.x + x));
    }
}

/// Buffers of one worker.
struct Scratch {
    std::vector<float> samples;
    Image source;
    std::vector<float> mean, weight;
    std::vector<std::uint16_t> low, high;
};

/// Hands scratch to whoever works and takes it back.
class ScratchPool {
public:
    std::unique_ptr<Scratch> take() {
        const std::lock_guard lock(mutex_);
        if (free_.empty()) return std::make_unique<Scratch>();
        auto s = std::move(free_.back());
        free_.pop_back();
        return s;
    }
    void give(std::unique_ptr<Scratch> s) {
        const std::lock_guard lock(mutex_);
        free_.push_back(std::move(s));
    }

private:
    std::mutex mutex_;
    std::vector<std::unique_ptr<Scratch>> free_;
};

/// The largest tile whose samples fit: the budget less the result, half of it for tiles, the rest for mapped pages.
int choose_tile(std::size_t frames, int wanted, std::uint64_t budget, int threads) {
    int side = wanted;
    const auto bytes = [&](int s) {
        const auto area = static_cast<std::uint64_t>(s) * static_cast<std::uint64_t>(s);
        return static_cast<std::uint64_t>(threads) * area * (4 * static_cast<std::uint64_t>(frames) + 32);
    };
    while (side > 16 && bytes(side) > budget / 2)
        side -= 16;
    return side;
}

} // namespace

void resample_region(const StackFrame& frame, const Region& region, double ringing_contrast, Image& scratch,
                     View<float> out) {
    const CalibratedView& view = *frame.view;
    const Region box = source_box(frame.to_frame, region, view.bounds());
    if (box.width < kLanczosTaps || box.height < kLanczosTaps || intersect(box, view.bounds()).empty()) {
        for (int y = 0; y < region.height; ++y)
            std::fill_n(out.row(y), region.width, kNoData);
        return;
    }
    if (scratch.pixels().size() < static_cast<std::size_t>(box.area()))
        scratch = Image(static_cast<int>(box.area()), 1);
    const View<float> source{scratch.pixels().data(), box.width, box.height, box.width};
    read_padded(view, box, source);

    constexpr int kChunk = 512;
    std::array<std::int32_t, kChunk> column{}, row{};
    std::array<float, kChunk> fx{}, fy{};
    const Affine& t = frame.to_frame;
    for (int y = 0; y < region.height; ++y) {
        const FixedPoint u(t.b * (region.y + y) + t.c, t.a), v(t.e * (region.y + y) + t.f, t.d);
        for (int x = 0; x < region.width; x += kChunk) {
            const int n = std::min(kChunk, region.width - x);
            split(u, region.x + x, n, box.x, column.data(), fx.data());
            split(v, region.x + x, n, box.y, row.data(), fy.data());
            resample_lanczos3(source, {column.data(), row.data(), fx.data(), fy.data(), n}, out.row(y) + x,
                              {.ringing_contrast = static_cast<float>(ringing_contrast)});
        }
    }
}

double resampling_noise_factor(const Affine& t, int width, int height) {
    double sum = 0;
    constexpr int kGrid = 24;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            // Odd steps, so that the grid does not beat with a scale.
            double u = 0, v = 0;
            t.apply(std::floor((i + 0.37) * width / kGrid), std::floor((j + 0.61) * height / kGrid), u, v);
            double px = 0, py = 0;
            for (const double w : lanczos3_weights(u - std::floor(u)))
                px += w * w;
            for (const double w : lanczos3_weights(v - std::floor(v)))
                py += w * w;
            sum += px * py;
        }
    return sum / (kGrid * kGrid);
}

MasterLight integrate(const std::vector<StackFrame>& frames, int width, int height, double level,
                      const Context& context, const IntegrateOptions& options) {
    if (frames.empty()) throw DataError("there are no frames to integrate", {}, {});
    MasterLight result{Image(width, height, 1, kNoData), Image(width, height), {}, 0, 0, 0};
    std::vector<FrameExpectation> expectations;
    double total = 0;
    for (const StackFrame& f : frames) {
        const double sigma = std::max(1e-9, f.level.scale * f.noise);
        const double factor = resampling_noise_factor(f.to_frame, width, height);
        const double slope = f.electrons_per_adu > 0 ? factor * f.level.scale / f.electrons_per_adu : 0;
        result.weights.push_back(1 / (sigma * sigma));
        total += result.weights.back();
        expectations.push_back({0, static_cast<float>(factor * sigma * sigma), static_cast<float>(slope)});
    }
    for (std::size_t i = 0; i < frames.size(); ++i) {
        result.weights[i] /= total;
        expectations[i].weight = static_cast<float>(result.weights[i]);
    }
    const StackCombiner combiner(expectations, static_cast<float>(level), true, options.rejection);

    const std::uint64_t result_bytes = static_cast<std::uint64_t>(result.pixels.bounds().area()) * 8;
    const std::uint64_t buffers = std::max<std::uint64_t>(
        32u << 20, context.memory.for_buffers() - std::min(context.memory.for_buffers(), result_bytes));
    const int side = choose_tile(frames.size(), options.tile, buffers, context.workers.threads());
    const int across = (width + side - 1) / side, down = (height + side - 1) / side;
    const double cx = 0.5 * (width - 1), cy = 0.5 * (height - 1);
    ScratchPool pool;
    std::atomic<std::uint64_t> samples{0}, low{0}, high{0}, mapped{0};

    context.workers.for_each(static_cast<std::size_t>(across) * static_cast<std::size_t>(down), [&](std::size_t index) {
        const int tx = static_cast<int>(index) % across, ty = static_cast<int>(index) / across;
        const Region region = intersect({tx * side, ty * side, side, side}, {0, 0, width, height});
        const std::ptrdiff_t pixels = region.area();
        auto s = pool.take();
        s->samples.resize(static_cast<std::size_t>(pixels) * frames.size());
        for (auto* v : {&s->mean, &s->weight})
            v->resize(static_cast<std::size_t>(pixels));
        for (auto* v : {&s->low, &s->high})
            v->resize(static_cast<std::size_t>(pixels));
        for (std::size_t f = 0; f < frames.size(); ++f) {
            const View<float> out{s->samples.data() + static_cast<std::ptrdiff_t>(f) * pixels, region.width,
                                  region.height, region.width};
            const StackFrame& frame = frames[f];
            resample_region(frame, region, options.ringing_sigmas * frame.noise, s->source, out);
            normalise(frame.level, region, cx, cy, out);
            // Mapped pages count as ours: give them back before they outgrow their share.
            const Region box =
                intersect(source_box(frame.to_frame, region, frame.view->bounds()), frame.view->bounds());
            const std::uint64_t bytes = frame.view->mapped_bytes(box);
            if ((mapped += bytes) > buffers / 4) {
                mapped = 0;
                for (const StackFrame& other : frames)
                    other.view->release();
            }
        }
        combiner.combine({s->samples.data(), static_cast<int>(frames.size()), pixels, static_cast<int>(pixels)},
                         {s->mean.data(), s->weight.data(), s->low.data(), s->high.data()});
        std::uint64_t n_low = 0, n_high = 0, n = 0;
        for (const float v : s->samples)
            n += v == v;
        for (std::ptrdiff_t i = 0; i < pixels; ++i) {
            n_low += s->low[static_cast<std::size_t>(i)];
            n_high += s->high[static_cast<std::size_t>(i)];
        }
        for (int y = 0; y < region.height; ++y) {
            std::copy_n(s->mean.data() + static_cast<std::ptrdiff_t>(y) * region.width, region.width,
                        result.pixels.plane().row(region.y + y) + region.x);
            std::copy_n(s->weight.data() + static_cast<std::ptrdiff_t>(y) * region.width, region.width,
                        result.coverage.plane().row(region.y + y) + region.x);
        }
        samples += n, low += n_low, high += n_high;
        pool.give(std::move(s));
        context.progress.advance(region.height * static_cast<std::int64_t>(region.width));
    });
    for (const StackFrame& f : frames)
        f.view->release();
    result.samples = samples;
    result.rejected_low = low;
    result.rejected_high = high;
    return result;
}

} // namespace kasane
