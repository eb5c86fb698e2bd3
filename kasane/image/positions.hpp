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

/// The same of those at `places`: positions[places[0]], positions[places[1]], ...
void split_positions_at(const std::int64_t* positions, const std::int32_t* places, std::size_t count, int origin,
                        std::int32_t* whole, float* fraction);

/// to[places[i]] = values[i]. A place may come several times, with the same value.
void put_at(const float* values, const std::int32_t* places, std::size_t count, float* to);

} // namespace kasane
