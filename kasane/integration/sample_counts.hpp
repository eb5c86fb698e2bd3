// How the samples of a stack fared, counted tile by tile.
#pragma once

#include <kasane/integration/stack.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// Of one tile, or of all; they can be added in any order.
struct SampleCounts {
    std::vector<FrameShare> shares; ///< by frame
    CoreShares cores;
    std::uint64_t passed_over = 0;
    std::uint64_t saturated = 0; ///< left out since they, or others of their length, are
    SampleCounts& operator+=(const SampleCounts& o) {
        for (std::size_t f = 0; f < o.shares.size(); ++f)
            shares[f] += o.shares[f];
        cores += o.cores;
        passed_over += o.passed_over;
        saturated += o.saturated;
        return *this;
    }
    /// Into the result, when all is done.
    void tell(MasterLight& result) const {
        result.shares = shares;
        result.cores = cores;
        for (const FrameShare& f : shares) {
            result.samples += f.samples;
            result.rejected_low += f.low;
            result.rejected_high += f.high;
            result.under_streaks += f.streaks;
        }
        result.cores.elsewhere = result.samples - result.cores.samples;
        result.passed_over = passed_over;
        result.saturated = saturated;
    }
};

} // namespace kasane
