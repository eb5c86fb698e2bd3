#include <kasane/integration/resample_pass.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>

namespace kasane {

ResamplePass::ResamplePass(const std::vector<StackFrame>& frames, const std::vector<Combiner>& combiners,
                           const IntegrateOptions& options, MasterLight& result)
    : frames_(frames), combiners_(combiners), options_(options), result_(result), halves_(combiners.size()) {}

std::uint64_t ResamplePass::bytes(std::int64_t pixels) const {
    const std::uint64_t samples = frames_.size() * combiners_.size();
    constexpr std::uint64_t kBeside = 64; // bytes a pixel: results, and the rectangle of a frame
    return static_cast<std::uint64_t>(pixels) * (sizeof(float) * samples + kBeside);
}

void ResamplePass::release() {
    for (const StackFrame& f : frames_)
        f.source->release();
}

void ResamplePass::run(const Region& region, MappedMemory& mapped) {
    if (failed_) return;
    auto s = pool_.borrow();
    if (!fill(region, *s, mapped)) return;
    for (std::size_t p = 0; p < combiners_.size(); ++p)
        combine(region, *s, p);
}

/// The samples of all frames, on the canvas and at one level.
bool ResamplePass::fill(const Region& region, Scratch& s, MappedMemory& mapped) {
    const std::size_t planes = combiners_.size(), count = frames_.size();
    const std::ptrdiff_t pixels = region.area();
    const auto area = static_cast<std::size_t>(pixels);
    s.samples.resize(area * count * planes);
    for (auto* v : {&s.mean, &s.weight})
        v->resize(area);
    for (auto* v : {&s.low, &s.high, &s.real})
        v->resize(area);
    s.flagged.assign(planes, {std::vector<std::vector<std::uint32_t>>(count)});
    std::vector<View<float>> out(planes);
    for (std::size_t f = 0; f < count; ++f) {
        const StackFrame& frame = frames_[f];
        for (std::size_t p = 0; p < planes; ++p)
            out[p] = {s.samples.data() + static_cast<std::ptrdiff_t>(p * count + f) * pixels, region.width,
                      region.height, region.width};
        if (auto failure = attempt([&] { s.resampler.resample(frame, region, options_.ringing_sigmas, out); })) {
            const std::lock_guard lock(failure_mutex_);
            if (!result_.failure) result_.failure = {f, std::move(*failure)};
            failed_ = true;
            return false;
        }
        for (std::size_t p = 0; p < planes; ++p)
            frame.planes[p].level.apply(region, out[p]);
        s.resampler.for_each_marked(frame, region, [&](std::size_t p, int x, int y, quality::Bits bits) {
            if (bits & quality::kRepaired)
                s.flagged[p].by_frame[f].push_back(static_cast<std::uint32_t>(y * region.width + x));
        });
        const Region& read = s.resampler.source();
        mapped.touched(read.empty() ? 0 : frame.source->mapped_bytes(read));
    }
    return true;
}

/// Takes out the samples made of neighbours wherever enough other frames have real data. Returns how many.
std::uint64_t ResamplePass::pass_over(Scratch& s, std::size_t plane, std::ptrdiff_t pixels) const {
    auto& lists = s.flagged[plane].by_frame;
    if (std::all_of(lists.begin(), lists.end(), [](const auto& l) { return l.empty(); })) return 0;
    const std::size_t frames = frames_.size();
    float* samples = s.samples.data() + static_cast<std::ptrdiff_t>(plane * frames) * pixels;
    constexpr double kLeast = 3; // frames with real data
    const double needed = std::max(kLeast, options_.real_share * static_cast<double>(frames));
    std::fill(s.real.begin(), s.real.end(), std::uint16_t{0});
    for (auto& list : lists) { // a pixel may have been touched by several defects
        std::sort(list.begin(), list.end());
        list.erase(std::unique(list.begin(), list.end()), list.end());
        for (const std::uint32_t i : list)
            ++s.real[i]; // frames that are not, for now
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

void ResamplePass::combine(const Region& region, Scratch& s, std::size_t plane) {
    const std::size_t count = frames_.size();
    const std::ptrdiff_t pixels = region.area();
    const auto area = static_cast<std::size_t>(pixels);
    passed_over_ += pass_over(s, plane, pixels);
    const float* block = s.samples.data() + static_cast<std::ptrdiff_t>(plane * count) * pixels;
    combiners_[plane].combine({block, static_cast<int>(count), pixels, static_cast<int>(pixels)},
                              {s.mean.data(), s.weight.data(), s.low.data(), s.high.data()});
    compare_halves(region, s, plane);
    std::uint64_t n = 0, low = 0, high = 0;
    for (std::size_t i = 0; i < area * count; ++i)
        n += block[i] == block[i];
    for (std::size_t i = 0; i < area; ++i) {
        low += s.low[i];
        high += s.high[i];
    }
    samples_ += n, low_ += low, high_ += high;
    const int p = static_cast<int>(plane);
    for (int y = 0; y < region.height; ++y) {
        const std::ptrdiff_t from = static_cast<std::ptrdiff_t>(y) * region.width;
        std::copy_n(s.mean.data() + from, region.width, result_.pixels.plane(p).row(region.y + y) + region.x);
        std::copy_n(s.weight.data() + from, region.width, result_.coverage.plane(p).row(region.y + y) + region.x);
    }
}

void ResamplePass::compare_halves(const Region& region, const Scratch& s, std::size_t plane) {
    const std::size_t count = frames_.size();
    const std::ptrdiff_t pixels = region.area();
    const float* block = s.samples.data() + static_cast<std::ptrdiff_t>(plane * count) * pixels;
    HalvesScatter here;
    for (int y = 0; y < region.height; ++y) {
        if (!HalvesScatter::takes(region.y + y)) continue;
        const std::ptrdiff_t from = static_cast<std::ptrdiff_t>(y) * region.width;
        here.add({block + from, static_cast<int>(count), pixels, region.width}, s.mean.data() + from,
                 combiners_[plane].expectation());
    }
    const std::lock_guard lock(halves_mutex_);
    halves_[plane].add(here);
}

void ResamplePass::finish() {
    for (std::size_t p = 0; p < halves_.size(); ++p)
        result_.noise.push_back(result_.expected_noise[p] * halves_[p].ratio());
    result_.samples = samples_;
    result_.rejected_low = low_;
    result_.rejected_high = high_;
    result_.passed_over = passed_over_;
}

} // namespace kasane
