#include <kasane/integration/integrate.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/image/resample.hpp>

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <mutex>
#include <random>

namespace kasane {

namespace {

/// Whole and fractional parts of positions in units of 2^-32 pixels.
void split(const std::int64_t* positions, int count, int origin, std::int32_t* whole, float* fraction) {
    for (int i = 0; i < count; ++i) {
        const std::int64_t value = positions[i];
        whole[i] = static_cast<std::int32_t>(value >> 32) - origin;
        fraction[i] = static_cast<float>(static_cast<std::int32_t>(static_cast<std::uint32_t>(value) >> 1)) * 0x1p-31f;
    }
}

/// The rectangle of the frame under an output rectangle, with the kernel's reach, cut to the frame with that reach.
Region source_box(const Transform& t, const Region& r, const Region& frame) {
    const auto [x0, y0, x1, y1] = t.bounds(r);
    constexpr int kBefore = kLanczosRadius - 1, kAfter = kLanczosRadius + 1; // one more for rounding
    const Region wanted{static_cast<int>(std::floor(std::clamp(x0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(y0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(x1 - x0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2,
                        static_cast<int>(std::floor(std::clamp(y1 - y0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2};
    return intersect(
        wanted, {-kBefore, -kBefore, frame.width + kBefore + kLanczosRadius, frame.height + kBefore + kLanczosRadius});
}

/// Fills what lies outside `at` with the nearest pixel inside: the frame's edge is repeated.
void pad(View<float> out, const Region& at) {
    for (int y = at.y; y < at.bottom(); ++y) {
        std::fill(out.row(y), out.row(y) + at.x, out(at.x, y));
        std::fill(out.row(y) + at.right(), out.row(y) + out.width, out(at.right() - 1, y));
    }
    for (int y = 0; y < out.height; ++y)
        if (y < at.y || y >= at.bottom())
            std::copy_n(out.row(std::clamp(y, at.y, at.bottom() - 1)), out.width, out.row(y));
}

Region united(const Region& a, const Region& b) {
    if (a.empty()) return b;
    if (b.empty()) return a;
    const int x = std::min(a.x, b.x), y = std::min(a.y, b.y);
    return {x, y, std::max(a.right(), b.right()) - x, std::max(a.bottom(), b.bottom()) - y};
}

/// The transform to a plane's own samples.
Transform to_plane(const StackFrame& frame, std::size_t plane) {
    const auto shift = frame.view->shift(static_cast<int>(plane));
    return frame.planes[plane].to_frame.shifted(-shift[0], -shift[1]);
}

/// Output pixels for which the sample at (x, y) of the frame is one of the four nearest.
template <class F>
void for_each_touched(const Transform& to_frame, int x, int y, const Region& region, F f) {
    const Point centre = to_frame.unmap({static_cast<double>(x), static_cast<double>(y)});
    if (!std::isfinite(centre.x)) return;
    const int reach = static_cast<int>(std::ceil(1.5 / std::max(0.1, to_frame.at(centre).scale())));
    const Region box = intersect({static_cast<int>(std::lround(centre.x)) - reach,
                                  static_cast<int>(std::lround(centre.y)) - reach, 2 * reach + 1, 2 * reach + 1},
                                 region);
    for (int j = box.y; j < box.bottom(); ++j)
        for (int i = box.x; i < box.right(); ++i) {
            const auto [u, v] = to_frame.map({static_cast<double>(i), static_cast<double>(j)});
            if (std::abs(u - x) < 1 && std::abs(v - y) < 1) f(i, j);
        }
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
    std::vector<float> samples; ///< plane by plane, frame by frame
    Resampler resampler;
    std::vector<std::vector<std::vector<std::uint32_t>>> doubtful; ///< by plane, by frame: pixels of the tile
    std::vector<std::uint16_t> real;
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
int choose_tile(std::size_t samples, int wanted, std::uint64_t budget, int threads) {
    int side = wanted;
    const auto bytes = [&](int s) {
        const auto area = static_cast<std::uint64_t>(s) * static_cast<std::uint64_t>(s);
        return static_cast<std::uint64_t>(threads) * area * (4 * static_cast<std::uint64_t>(samples) + 64);
    };
    while (side > 16 && bytes(side) > budget / 2)
        side -= 16;
    return side;
}

/// Takes out the samples made of neighbours wherever enough other frames have real data. Returns how many.
std::uint64_t pass_over_doubtful(Scratch& s, std::size_t plane, std::size_t frames, std::ptrdiff_t pixels,
                                 double real_share) {
    auto& lists = s.doubtful[plane];
    if (std::all_of(lists.begin(), lists.end(), [](const auto& l) { return l.empty(); })) return 0;
    float* samples = s.samples.data() + static_cast<std::ptrdiff_t>(plane * frames) * pixels;
    constexpr double kLeast = 3; // frames with real data
    const double needed = std::max(kLeast, real_share * static_cast<double>(frames));
    std::fill(s.real.begin(), s.real.end(), std::uint16_t{0});
    for (auto& list : lists) { // a pixel may have been touched by several defects
        std::sort(list.begin(), list.end());
        list.erase(std::unique(list.begin(), list.end()), list.end());
        for (const std::uint32_t i : list)
            ++s.real[i]; // doubtful frames, for now
    }
    const auto enough = [&](std::uint32_t i) {
        std::size_t with_data = 0;
        for (std::size_t f = 0; f < frames; ++f) {
            const float v = samples[static_cast<std::ptrdiff_t>(f) * pixels + i];
            with_data += v == v;
        }
        return static_cast<double>(with_data) - s.real[i] >= needed;
    };
    constexpr std::uint16_t kEnough = 0xffff, kNotEnough = 0xfffe;
    std::uint64_t n = 0;
    for (std::size_t f = 0; f < frames; ++f)
        for (const std::uint32_t i : lists[f]) {
            if (s.real[i] < kNotEnough) s.real[i] = enough(i) ? kEnough : kNotEnough; // decided once a pixel
            if (s.real[i] != kEnough) continue;
            samples[static_cast<std::ptrdiff_t>(f) * pixels + i] = kNoData;
            ++n;
        }
    return n;
}

} // namespace

void Resampler::resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                         const std::vector<View<float>>& out, std::vector<std::vector<std::uint32_t>>* doubtful) {
    const FrameView& view = *frame.view;
    Region box{};
    for (std::size_t p = 0; p < out.size(); ++p)
        box = united(box, source_box(to_plane(frame, p), region, view.bounds()));
    inside_ = intersect(box, view.bounds());
    if (box.width < kLanczosTaps || box.height < kLanczosTaps || inside_.empty()) {
        for (const View<float>& o : out)
            for (int y = 0; y < region.height; ++y)
                std::fill_n(o.row(y), region.width, kNoData);
        return;
    }
    const auto area = static_cast<std::size_t>(box.area());
    if (pixels_.size() < area * out.size()) pixels_.resize(area * out.size());
    const Region at{inside_.x - box.x, inside_.y - box.y, inside_.width, inside_.height};
    std::array<View<float>, 3> source{}, inside{};
    for (std::size_t p = 0; p < out.size(); ++p) {
        source[p] = {pixels_.data() + p * area, box.width, box.height, box.width};
        inside[p] = source[p].crop(at);
    }
    doubtful_.clear();
    view.read(inside_, {inside.data(), out.size()}, doubtful ? &doubtful_ : nullptr);
    if (box != inside_)
        for (std::size_t p = 0; p < out.size(); ++p)
            pad(source[p], at);

    constexpr int kChunk = 512;
    std::array<std::int32_t, kChunk> column{}, row{};
    std::array<float, kChunk> fx{}, fy{};
    std::array<std::int64_t, kChunk> u{}, v{};
    for (std::size_t p = 0; p < out.size(); ++p) {
        const Transform t = to_plane(frame, p);
        const auto contrast = static_cast<float>(ringing_sigmas * frame.planes[p].noise);
        for (int y = 0; y < region.height; ++y) {
            for (int x = 0; x < region.width; x += kChunk) {
                const int n = std::min(kChunk, region.width - x);
                t.row(region.x + x, region.y + y, n, u.data(), v.data());
                split(u.data(), n, box.x, column.data(), fx.data());
                split(v.data(), n, box.y, row.data(), fy.data());
                resample_lanczos3(source[p], {column.data(), row.data(), fx.data(), fy.data(), n}, out[p].row(y) + x,
                                  {.ringing_contrast = contrast});
            }
        }
    }
    if (!doubtful || doubtful_.empty()) return;
    std::array<Transform, 3> forward;
    for (std::size_t p = 0; p < out.size(); ++p)
        forward[p] = to_plane(frame, p);
    for (const Doubtful& d : doubtful_) {
        const auto p = static_cast<std::size_t>(d.plane);
        for_each_touched(forward[p], d.x, d.y, region, [&](int x, int y) {
            (*doubtful)[p].push_back(static_cast<std::uint32_t>((y - region.y) * region.width + (x - region.x)));
        });
    }
}

double resampling_noise_factor(const Transform& t, const Canvas& canvas) {
    double sum = 0;
    constexpr int kGrid = 24;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            // Odd steps, so that the grid does not beat with a scale.
            const auto [u, v] =
                t.map({std::floor((i + 0.37) * canvas.width / kGrid), std::floor((j + 0.61) * canvas.height / kGrid)});
            double px = 0, py = 0;
            for (const double w : lanczos3_weights(u - std::floor(u)))
                px += w * w;
            for (const double w : lanczos3_weights(v - std::floor(v)))
                py += w * w;
            sum += px * py;
        }
    return sum / (kGrid * kGrid);
}

namespace {

constexpr int kNoiseField = 96, kNoiseMargin = 12; // pixels

/// A sum of uniform numbers, of variance 1.
float nearly_normal(std::mt19937_64& bits) {
    float sum = -6;
    for (int i = 0; i < 12; ++i)
        sum += static_cast<float>(bits() >> 40) * 0x1p-24f;
    return sum;
}

} // namespace

NoiseFactors::NoiseFactors(const FrameView& view) {
    if (!view.interpolated()) return;
    constexpr int kRealisations = 4;
    const CfaPattern& cfa = view.source().calibration().cfa;
    const Demosaic method = view.method() == ColourMethod::bilinear ? Demosaic::bilinear : Demosaic::adaptive;
    const int halo = demosaic_halo(method, cfa);
    std::mt19937_64 bits(1);
    for (int k = 0; k < kRealisations; ++k) {
        Image mosaic(kNoiseField + 2 * halo, kNoiseField + 2 * halo), planes(kNoiseField, kNoiseField, 3);
        for (float& v : mosaic.pixels())
            v = nearly_normal(bits);
        demosaic(mosaic.plane(), cfa.shifted(-halo, -halo), method,
                 {planes.plane(0), planes.plane(1), planes.plane(2)});
        fields_.push_back(std::move(planes));
    }
}

double NoiseFactors::factor(int plane, const Transform& to_frame, const Canvas& canvas) const {
    if (fields_.empty()) return resampling_noise_factor(to_frame, canvas);
    std::vector<std::int32_t> column, row;
    std::vector<float> fx, fy;
    for (int y = kNoiseMargin; y < kNoiseField - kNoiseMargin; ++y)
        for (int x = kNoiseMargin; x < kNoiseField - kNoiseMargin; ++x) {
            // The fractions that the transform brings somewhere on the canvas, by odd steps.
            const auto [u, v] = to_frame.map({std::floor((x * 37 % 101) / 101.0 * canvas.width),
                                              std::floor((y * 53 % 103) / 103.0 * canvas.height)});
            column.push_back(x);
            row.push_back(y);
            fx.push_back(static_cast<float>(u - std::floor(u)));
            fy.push_back(static_cast<float>(v - std::floor(v)));
        }
    double squares = 0;
    std::vector<float> out(column.size());
    for (const Image& field : fields_) {
        resample_lanczos3(field.plane(plane),
                          {column.data(), row.data(), fx.data(), fy.data(), static_cast<int>(out.size())}, out.data());
        for (const float v : out)
            squares += static_cast<double>(v) * v;
    }
    return squares / static_cast<double>(out.size() * fields_.size());
}

MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options) {
    if (frames.empty()) throw DataError("there are no frames to integrate", {}, {});
    const int width = canvas.width, height = canvas.height;
    if (width < 1 || height < 1 || options.tile < 1 || !(options.ringing_sigmas >= 0) ||
        !(options.real_share >= 0 && options.real_share <= 1))
        throw UsageError(fmt::format("a master light of {} x {} pixels in tiles of {}, with ringing clamped from {:g} "
                                     "sigma and a share of {:g} real frames, makes no sense",
                                     width, height, options.tile, options.ringing_sigmas, options.real_share),
                         {}, "Sizes and tile must be positive, the share between 0 and 1");
    const std::size_t planes = frames.front().planes.size(), count = frames.size();
    for (const StackFrame& f : frames)
        if (f.planes.size() != planes || f.view->planes() != static_cast<int>(planes) || levels.size() != planes)
            throw UsageError("the frames of a stack differ in their number of planes", f.view->source().raw().path(),
                             "Stack mono and colour exposures apart");
    const int n_planes = static_cast<int>(planes);
    MasterLight result{Image(width, height, n_planes, kNoData), Image(width, height, n_planes), {}, {}, 0, 0, 0, 0};
    const NoiseFactors noise(*frames.front().view);
    CombinationChoice combination = choose_combination(StackOf::lights, static_cast<int>(count));
    if (options.combine) combination = {*options.combine, combination_text(*options.combine, static_cast<int>(count))};
    result.combination = combination.reason;
    std::vector<Combiner> combiners;
    for (std::size_t p = 0; p < planes; ++p) {
        StackExpectation expected{{}, static_cast<float>(levels[p]), true};
        std::vector<double> weights;
        double total = 0;
        for (const StackFrame& f : frames) {
            const StackPlane& plane = f.planes[p];
            const double sigma = std::max(1e-9, plane.level.scale * plane.noise);
            const double factor = noise.factor(static_cast<int>(p), to_plane(f, p), canvas);
            const double slope = f.electrons_per_adu > 0 ? factor * plane.level.scale / f.electrons_per_adu : 0;
            weights.push_back(1 / (sigma * sigma));
            total += weights.back();
            expected.frames.push_back({0, static_cast<float>(factor * sigma * sigma), static_cast<float>(slope)});
        }
        for (std::size_t i = 0; i < count; ++i) {
            weights[i] /= total;
            expected.frames[i].weight = static_cast<float>(weights[i]);
        }
        result.weights.push_back(std::move(weights));
        combiners.emplace_back(std::move(expected), combination.options);
    }

    const std::uint64_t result_bytes = static_cast<std::uint64_t>(result.pixels.bounds().area()) * 8 * planes;
    const std::uint64_t buffers = std::max<std::uint64_t>(
        32u << 20, context.memory.for_buffers() - std::min(context.memory.for_buffers(), result_bytes));
    const int side = choose_tile(count * planes, options.tile, buffers, context.workers.threads());
    const int across = (width + side - 1) / side, down = (height + side - 1) / side;
    const auto [cx, cy] = canvas.centre();
    ScratchPool pool;
    std::atomic<std::uint64_t> samples{0}, low{0}, high{0}, passed_over{0}, mapped{0};

    context.workers.for_each(static_cast<std::size_t>(across) * static_cast<std::size_t>(down), [&](std::size_t index) {
        const int tx = static_cast<int>(index) % across, ty = static_cast<int>(index) / across;
        const Region region = intersect({tx * side, ty * side, side, side}, canvas.bounds());
        const std::ptrdiff_t pixels = region.area();
        const auto area = static_cast<std::size_t>(pixels);
        auto s = pool.take();
        s->samples.resize(area * count * planes);
        for (auto* v : {&s->mean, &s->weight})
            v->resize(area);
        for (auto* v : {&s->low, &s->high, &s->real})
            v->resize(area);
        s->doubtful.assign(planes, std::vector<std::vector<std::uint32_t>>(count));
        std::vector<View<float>> out(planes);
        std::vector<std::vector<std::uint32_t>> doubtful(planes);
        for (std::size_t f = 0; f < count; ++f) {
            const StackFrame& frame = frames[f];
            for (std::size_t p = 0; p < planes; ++p) {
                out[p] = {s->samples.data() + static_cast<std::ptrdiff_t>(p * count + f) * pixels, region.width,
                          region.height, region.width};
                doubtful[p].clear();
            }
            s->resampler.resample(frame, region, options.ringing_sigmas, out, &doubtful);
            for (std::size_t p = 0; p < planes; ++p) {
                normalise(frame.planes[p].level, region, cx, cy, out[p]);
                s->doubtful[p][f] = doubtful[p];
            }
            // Mapped pages count as ours: give them back before they outgrow their share.
            const Region& read = s->resampler.source();
            const std::uint64_t bytes = read.empty() ? 0 : frame.view->mapped_bytes(read);
            if ((mapped += bytes) > buffers / 4) {
                mapped = 0;
                for (const StackFrame& other : frames)
                    other.view->release();
            }
        }
        std::uint64_t n_low = 0, n_high = 0, n = 0;
        for (std::size_t p = 0; p < planes; ++p) {
            passed_over += pass_over_doubtful(*s, p, count, pixels, options.real_share);
            const float* block = s->samples.data() + static_cast<std::ptrdiff_t>(p * count) * pixels;
            combiners[p].combine({block, static_cast<int>(count), pixels, static_cast<int>(pixels)},
                                 {s->mean.data(), s->weight.data(), s->low.data(), s->high.data()});
            for (std::size_t i = 0; i < area * count; ++i)
                n += block[i] == block[i];
            for (std::size_t i = 0; i < area; ++i) {
                n_low += s->low[i];
                n_high += s->high[i];
            }
            for (int y = 0; y < region.height; ++y) {
                const auto plane = static_cast<int>(p);
                std::copy_n(s->mean.data() + static_cast<std::ptrdiff_t>(y) * region.width, region.width,
                            result.pixels.plane(plane).row(region.y + y) + region.x);
                std::copy_n(s->weight.data() + static_cast<std::ptrdiff_t>(y) * region.width, region.width,
                            result.coverage.plane(plane).row(region.y + y) + region.x);
            }
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
    result.passed_over = passed_over;
    return result;
}

} // namespace kasane
