#include <kasane/integration/tile_samples.hpp>

#include <kasane/base/units.hpp>
#include <kasane/integration/streak_mask.hpp>

#include <algorithm>

namespace kasane {

std::optional<FrameFailure> TileSamples::fill(const std::vector<StackFrame>& frames, const Region& region,
                                              const SampleOptions& options, MappedMemory& mapped) {
    const std::size_t planes = frames.front().planes.size();
    frames_ = frames.size(), pixels_ = region.area();
    const auto area = static_cast<std::size_t>(pixels_);
    samples_.resize(std::max(samples_.size(), area * frames_ * planes));
    real_.resize(area);
    repaired_.assign(planes, Lists(frames_));
    streaked_.assign(planes, Lists(frames_));
    under_streaks_.assign(planes, {});
    passed_over_.assign(planes, {});
    full_.assign(planes, Lists(frames_));
    left_out_.assign(planes, {});
    left_.assign(planes, {});
    burnt_.assign(planes, {});
    complete_.assign(planes * frames_, 0);
    std::vector<View<float>> out(planes);
    std::vector<float> bright_from(options.lengths ? planes : 0);
    for (std::size_t f = 0; f < frames_; ++f) {
        const StackFrame& frame = frames[f];
        for (std::size_t p = 0; p < planes; ++p)
            out[p] = {plane(p) + static_cast<std::ptrdiff_t>(f) * pixels_, region.width, region.height, region.width};
        for (std::size_t p = 0; p < planes; ++p) {
            complete_[p * frames_ + f] = 1;
            if (options.lengths) bright_from[p] = options.lengths->bright_from(f, p);
        }
        std::vector<LevelRows> levels;
        levels.reserve(planes);
        for (std::size_t p = 0; p < planes; ++p)
            levels.emplace_back(frame.planes[p].level, region.x, region.width);
        const auto settle_row = [&](std::size_t p, int y) {
            if (!levels[p].apply(region.y + y, out[p].row(y))) complete_[p * frames_ + f] = 0;
        };
        if (auto failure = attempt([&] {
                resampler_.resample(frame, region, options.ringing_sigmas, out, {bright_from, settle_row});
            }))
            return FrameFailure{f, std::move(*failure)};
        for (std::size_t p = 0; p < planes; ++p) {
            full_[p][f].swap(resampler_.saturated(p));
            if (frame.moving) subtract_moving(*frame.moving, p, region, out[p]);
            if (options.mask_streaks) samples_under_streaks(frame, p, region, streaked_[p][f]);
            samples_covered(frame, p, region, streaked_[p][f]);
        }
        resampler_.for_each_marked(frame, region, [&](std::size_t p, int x, int y, quality::Bits bits) {
            if (bits & quality::kRepaired) repaired_[p][f].push_back(static_cast<std::uint32_t>(y * region.width + x));
        });
        const Region& read = resampler_.source();
        mapped.touched(read.empty() ? 0 : frame.source->mapped_bytes(read));
    }
    const double share = options.real_share * static_cast<double>(frames_);
    // A repaired sample is nearly as good as another, one under a trail is good for nothing.
    constexpr double kLeastReal = 3, kLeastClear = 2;
    for (std::size_t p = 0; p < planes; ++p) {
        if (options.lengths) leave_to_shorter(frames, *options.lengths, p);
        take_out(streaked_[p], p, std::max(std::min(kLeastClear, static_cast<double>(frames_) - 1), share),
                 [&](std::size_t f, std::uint32_t i) {
                     under_streaks_[p].push_back({i, static_cast<std::uint16_t>(f), true});
                 });
        take_out(repaired_[p], p, std::max(kLeastReal, share), [&](std::size_t f, std::uint32_t i) {
            passed_over_[p].push_back({i, static_cast<std::uint16_t>(f), false});
        });
    }
    return std::nullopt;
}

/// As lengths.hpp says.
void TileSamples::leave_to_shorter(const std::vector<StackFrame>& frames, const LengthRules& rules, std::size_t p) {
    std::vector<std::uint32_t> touched;
    for (const auto& list : full_[p])
        touched.insert(touched.end(), list.begin(), list.end());
    if (touched.empty()) return;
    std::sort(touched.begin(), touched.end());
    touched.erase(std::unique(touched.begin(), touched.end()), touched.end());
    const auto lengths = static_cast<std::size_t>(rules.count());
    std::vector<int> there(lengths), full(lengths);
    std::vector<std::size_t> next(frames_);
    std::vector<std::uint8_t> is_full(frames_);
    float* samples = plane(p);
    const auto at = [&](std::size_t f, std::uint32_t i) -> float& {
        return samples[static_cast<std::ptrdiff_t>(f) * pixels_ + i];
    };
    constexpr int kTogether = 2; // as many make all of their length leave
    for (const std::uint32_t i : touched) {
        std::fill(there.begin(), there.end(), 0);
        std::fill(full.begin(), full.end(), 0);
        int clear = 0; // samples that are not saturated, of lengths that stay
        for (std::size_t f = 0; f < frames_; ++f) {
            const auto& list = full_[p][f];
            is_full[f] = next[f] < list.size() && list[next[f]] == i;
            next[f] += is_full[f];
            if (!(at(f, i) == at(f, i))) continue;
            const auto length = static_cast<std::size_t>(frames[f].length);
            ++there[length];
            full[length] += is_full[f];
        }
        const auto together = [&](std::size_t k) { return full[k] > 0 && full[k] >= std::min(kTogether, there[k]); };
        std::size_t gone = 0, shortest = 0;
        for (std::size_t k = 0; k < lengths; ++k)
            if (there[k] > 0) shortest = k;
        for (std::size_t k = 0; k < shortest; ++k)
            if (together(k)) gone = k + 1;
        for (std::size_t k = gone; k < lengths; ++k)
            clear += there[k] - full[k];
        const bool all_full = gone == shortest && together(gone);
        if (all_full) burnt_[p].push_back(i);
        if (gone > 0) {
            if (left_[p].empty()) left_[p].assign(static_cast<std::size_t>(pixels_), 0);
            left_[p][i] = static_cast<std::uint8_t>(gone);
        }
        for (std::size_t f = 0; f < frames_; ++f) {
            const bool leaves =
                static_cast<std::size_t>(frames[f].length) < gone || (is_full[f] && !all_full && clear > 0);
            if (!leaves || !(at(f, i) == at(f, i))) continue;
            at(f, i) = kNoData;
            left_out_[p].push_back({i, static_cast<std::uint16_t>(f), true});
        }
    }
}

/// Takes out the samples of the lists wherever at least so many other frames have data. Calls use(frame, pixel) for
/// each.
template <class Use>
void TileSamples::take_out(Lists& lists, std::size_t p, double least, Use use) {
    if (std::all_of(lists.begin(), lists.end(), [](const auto& l) { return l.empty(); })) return;
    float* samples = plane(p);
    const auto at = [&](std::size_t f, std::uint32_t i) -> float& {
        return samples[static_cast<std::ptrdiff_t>(f) * pixels_ + i];
    };
    std::fill(real_.begin(), real_.end(), std::uint16_t{0});
    for (std::size_t f = 0; f < frames_; ++f) { // a pixel may have been touched by several defects
        auto& list = lists[f];
        std::sort(list.begin(), list.end());
        list.erase(std::unique(list.begin(), list.end()), list.end());
        std::erase_if(list, [&](std::uint32_t i) { return !(at(f, i) == at(f, i)); });
        for (const std::uint32_t i : list)
            ++real_[i]; // frames that are not, for now
    }
    // Frames that have data all over the tile are looked at no more, as long as nothing else was taken out of them.
    const auto complete = [&] {
        if (!under_streaks_[p].empty() || !left_out_[p].empty()) return std::ptrdiff_t{0};
        const auto from = complete_.begin() + static_cast<std::ptrdiff_t>(p * frames_);
        return std::count(from, from + static_cast<std::ptrdiff_t>(frames_), std::uint8_t{1});
    }();
    const auto enough = [&](std::uint32_t i) {
        const double needed = least + real_[i];
        if (static_cast<double>(complete) >= needed) return true;
        std::size_t with_data = 0;
        for (std::size_t f = 0; f < frames_ && static_cast<double>(with_data) < needed; ++f)
            with_data += at(f, i) == at(f, i);
        return static_cast<double>(with_data) >= needed;
    };
    constexpr std::uint16_t kEnough = 0xffff, kNotEnough = 0xfffe;
    for (std::size_t f = 0; f < frames_; ++f)
        for (const std::uint32_t i : lists[f]) {
            if (real_[i] < kNotEnough) real_[i] = enough(i) ? kEnough : kNotEnough; // decided once a pixel
            if (real_[i] != kEnough) continue;
            at(f, i) = kNoData;
            use(f, i);
        }
}

} // namespace kasane
