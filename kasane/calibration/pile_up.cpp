#include <kasane/calibration/pile_up.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <bit>
#include <cstdint>
#include <vector>

namespace kasane {

namespace {

/// Counts positive values by their exponent and the first eight bits behind it: bins of 0.2 to 0.4 %.
class LogarithmicCounts {
public:
    void add(float v) {
        if (v > 0) ++counts_[bin(v)]; // what is no number is not
    }
    /// Values from `low` on below `high`, to a bin.
    std::uint64_t between(float low, float high) const {
        std::uint64_t sum = 0;
        for (std::size_t i = bin(low); i < bin(high); ++i)
            sum += counts_[i];
        return sum;
    }

private:
    static std::size_t bin(float v) { return std::bit_cast<std::uint32_t>(v) >> 15; }
    std::vector<std::uint32_t> counts_ = std::vector<std::uint32_t>(1u << 16);
};

} // namespace

PileUp find_pile_up(const FrameReader& raw) {
    constexpr int kEvery = 8;
    constexpr float kHigh = 1e30f;   // beyond it there are no raw values
    constexpr float kLowest = 0.78f; // of the top
    LogarithmicCounts counts;
    PileUp out;
    std::uint64_t all = 0;
    std::vector<float> row(static_cast<std::size_t>(raw.width()));
    for (int p = 0; p < raw.planes(); ++p)
        for (int y = kEvery / 2; y < raw.height(); y += kEvery) {
            raw.read({0, y, raw.width(), 1}, {row.data(), raw.width(), 1, raw.width()}, p);
            all += row.size();
            const float least = kLowest * out.top; // what is lower is not asked for, as the top only rises
            if (!any_at_least(row.data(), least, row.size())) continue;
            for (const float v : row) {
                if (!(v >= least && v < kHigh)) continue;
                out.top = std::max(out.top, v);
                counts.add(v);
            }
        }
    if (!(out.top > 0)) return out;
    constexpr std::uint64_t kLeast = 24;
    const std::uint64_t full = counts.between(0.97f * out.top, 1.01f * out.top),
                        below = counts.between(0.91f * out.top, 0.97f * out.top),
                        bright = counts.between(0.8f * out.top, 1.01f * out.top);
    out.piled = full >= kLeast && full > 2 * below && 2 * bright < all;
    return out;
}

} // namespace kasane
