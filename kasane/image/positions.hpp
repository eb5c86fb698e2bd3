// Positions in fixed point as whole pixels and fractions, of rows and of pixels that lie anywhere. Vectorised, with
// run-time dispatch.
#pragma once

#include <cstddef>
#include <cstdint>

namespace kasane {

/// Positions in units of 2^-32 pixels as whole pixels from `origin` on, and the fractions behind (24 bits of them).
void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction);

/// The same of positions that lie evenly: start, start + step, ...
void split_even_positions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction);

/// Places that lie in a digital line: pixel i along it lies `rise[i]` across, which grows by 0 or 1 a step.
struct LineTable {
    const std::int32_t* rise;
    const std::int32_t* places; ///< of the line that begins at 0 across
    std::int32_t step;          ///< in places, from one line to the next
};

/// Neighbours in a line: `count` of them from pixel `first` of line `line` on. The results for groups lie kTogether
/// apart; where there are fewer, the last one is repeated.
struct LineGroup {
    static constexpr int kTogether = 16;
    int first, line, count;
};

/// The positions of groups where they are sums: along[i] + across[line + rise[i]]. Of `across` kTogether values beyond
/// the last are read, and not used.
void split_line_positions(const LineTable& table, const std::int64_t* along, const std::int64_t* across,
                          const LineGroup* groups, std::size_t count, int origin, std::int32_t* whole, float* fraction);

/// Those that are known for all places.
void split_positions_at(const LineTable& table, const std::int64_t* positions, const LineGroup* groups,
                        std::size_t count, int origin, std::int32_t* whole, float* fraction);

/// Values of groups to their places.
void put_at(const LineTable& table, const float* values, const LineGroup* groups, std::size_t count, float* to);

} // namespace kasane
