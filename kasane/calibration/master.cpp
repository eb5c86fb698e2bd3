#include <kasane/calibration/master.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr int kSampleRows = 48; // spread over the frame, for levels and noise

/// Rows spread over the frame of one exposure, offset removed.
std::vector<float> sample_rows(const FrameReader& frame, const FrameReader* offset, float offset_level) {
    const int rows = std::min(kSampleRows, frame.height());
    Image row(frame.width(), 1), dark(frame.width(), 1, 1, offset_level);
    std::vector<float> values;
    values.reserve(static_cast<std::size_t>(rows) * static_cast<std::size_t>(frame.width()));
    for (int i = 0; i < rows; ++i) {
        const Region r{0, static_cast<int>((i + 0.5) * frame.height() / rows), frame.width(), 1};
        frame.read(r, row.plane());
        if (offset) offset->read(r, dark.plane());
        for (int x = 0; x < frame.width(); ++x)
            values.push_back(row(x, 0) - dark(x, 0));
    }
    return values;
}

float median_of(std::vector<float> values) {
    values.erase(std::remove_if(values.begin(), values.end(), [](float v) { return !std::isfinite(v); }), values.end());
    return median_in_place(values);
}

/// Noise of the sample from the differences between neighbouring pixels; the unit is the file's, whatever it is.
float neighbour_noise(const std::vector<float>& sample) {
    std::vector<float> d;
    for (std::size_t i = 1; i < sample.size(); i += 2)
        if (std::isfinite(sample[i] - sample[i - 1])) d.push_back(sample[i] - sample[i - 1]);
    return d.empty() ? 0 : mad_sigma_in_place(d, 0) / std::sqrt(2.0f);
}

/// Noise of one frame from the differences between neighbours in the list, each scaled.
double difference_sigma(const std::vector<std::vector<float>>& samples, const std::vector<float>& scale) {
    std::vector<float> sigmas;
    for (std::size_t f = 0; f + 1 < samples.size(); ++f) {
        std::vector<float> d;
        d.reserve(samples[f].size());
        for (std::size_t i = 0; i < samples[f].size(); ++i) {
            const float v = samples[f][i] * scale[f] - samples[f + 1][i] * scale[f + 1];
            if (std::isfinite(v)) d.push_back(v);
        }
        const float center = median_in_place(d);
        if (!d.empty()) sigmas.push_back(mad_sigma_in_place(d, center) / std::sqrt(2.0f));
    }
    return sigmas.empty() ? 0 : median_in_place(sigmas);
}

} // namespace

MasterResult build_master(Role role, const std::vector<std::shared_ptr<const FrameReader>>& frames,
                          const FrameReader* offset, const Context& context, const MasterOptions& options) {
    if (frames.empty()) throw DataError("there are no frames to make a master from", {}, {});
    const int width = frames.front()->width(), height = frames.front()->height();
    for (const auto& f : frames)
        if (f->width() != width || f->height() != height)
            throw InputError(fmt::format("is {} x {} pixels; {} is {} x {}", f->width(), f->height(),
                                         frames.front()->path().filename().string(), width, height),
                             f->path(), "Keep frames of different cameras or binnings apart");
    const bool flat = role == Role::flat;
    const FrameReader* subtract = flat ? offset : nullptr;
    const float constant = flat && !offset ? options.offset_level : 0;

    // Levels and noise, from a sample.
    std::vector<std::vector<float>> samples(frames.size());
    context.workers.for_each(frames.size(),
                             [&](std::size_t f) { samples[f] = sample_rows(*frames[f], subtract, constant); });
    std::vector<float> level(frames.size()), scale(frames.size(), 1.0f);
    for (std::size_t f = 0; f < frames.size(); ++f) {
        level[f] = median_of(samples[f]);
        if (!flat) continue;
        const float noise = neighbour_noise(samples[f]);
        if (!(level[f] > 3 * noise))
            throw InputError(fmt::format("there is no light on this flat (level {:g} above its offset, noise {:g})",
                                         level[f], noise),
                             frames[f]->path(), "Remove it, or move it to the darks");
        scale[f] = 1 / level[f];
    }
    MasterResult result{Image(width, height), static_cast<int>(frames.size()), median_of(level),
                        difference_sigma(samples, scale), 0};
    samples.clear();

    std::vector<FrameExpectation> expectations(frames.size());
    const auto variance = static_cast<float>(std::max(1e-12, result.frame_noise * result.frame_noise));
    for (auto& e : expectations)
        e.variance = variance;
    const StackCombiner combiner(expectations, 0, result.frame_noise > 0, options.rejection);

    // Bands of whole rows, sized by the budget: the samples of all frames, and their mapped pages.
    const auto count = static_cast<std::uint64_t>(frames.size());
    const std::uint64_t row_bytes = (count + 2) * static_cast<std::uint64_t>(width) * (sizeof(float) + 2);
    const std::uint64_t share = std::max<std::uint64_t>(context.memory.for_buffers() / 2, 1) /
                                static_cast<std::uint64_t>(context.workers.threads());
    const int band = static_cast<int>(std::clamp<std::uint64_t>(share / row_bytes, 1, 64));
    const int bands = (height + band - 1) / band;
    std::atomic<std::uint64_t> rejected{0};
    context.workers.for_each(static_cast<std::size_t>(bands), [&](std::size_t b) {
        const Region region{0, static_cast<int>(b) * band, width, std::min(band, height - static_cast<int>(b) * band)};
        const std::ptrdiff_t pixels = region.area();
        std::vector<float> block(static_cast<std::size_t>(pixels) * frames.size()),
            dark(static_cast<std::size_t>(pixels), constant);
        std::vector<float> weight(static_cast<std::size_t>(pixels));
        std::vector<std::uint16_t> low(static_cast<std::size_t>(pixels)), high(static_cast<std::size_t>(pixels));
        if (subtract) subtract->read(region, {dark.data(), width, region.height, width});
        for (std::size_t f = 0; f < frames.size(); ++f) {
            float* to = block.data() + static_cast<std::ptrdiff_t>(f) * pixels;
            frames[f]->read(region, {to, width, region.height, width});
            if (flat)
                for (std::ptrdiff_t i = 0; i < pixels; ++i)
                    to[i] = (to[i] - dark[static_cast<std::size_t>(i)]) * scale[f];
        }
        combiner.combine({block.data(), static_cast<int>(frames.size()), pixels, static_cast<int>(pixels)},
                         {result.pixels.plane().row(region.y), weight.data(), low.data(), high.data()});
        std::uint64_t n = 0;
        for (std::ptrdiff_t i = 0; i < pixels; ++i)
            n += low[static_cast<std::size_t>(i)] + high[static_cast<std::size_t>(i)];
        rejected += n;
        for (const auto& f : frames)
            f->release();
    });
    result.rejected_share = static_cast<double>(rejected) /
                            (static_cast<double>(count) * static_cast<double>(result.pixels.bounds().area()));

    if (flat) { // mean 1, whatever dead or hot pixels say
        double mean = image_statistics(result.pixels.plane(), 2000000).location;
        double sum = 0;
        std::int64_t n = 0;
        for (const float v : result.pixels.pixels())
            if (v > 0.2 * mean && v < 3 * mean) {
                sum += v;
                ++n;
            }
        if (n > 0) mean = sum / static_cast<double>(n);
        const auto factor = static_cast<float>(1 / mean);
        for (float& v : result.pixels.pixels())
            v *= factor;
    }
    return result;
}

} // namespace kasane
