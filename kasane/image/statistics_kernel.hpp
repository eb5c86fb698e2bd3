// The loops over all values inside median and clipped statistics. Use image/statistics.hpp.
#pragma once

#include <cstddef>

namespace kasane {

struct SumsWithin {
    double sum = 0, square = 0; ///< of the differences from a center, and of their squares
    std::size_t count = 0;
};

/// Sums over the values from `low` to `high`.
SumsWithin sums_within(const float* values, std::size_t count, float center, float low, float high);
SumsWithin sums_within_reference(const float* values, std::size_t count, float center, float low, float high);

struct Between {
    std::size_t taken = 0; ///< values from `low` to `high`
    std::size_t less = 0;  ///< values below `low`
};

/// Copies the values from `low` to `high` to `out`, which has room for `count` and kTakeSlack more.
Between take_between(const float* values, std::size_t count, float low, float high, float* out);
Between take_between_reference(const float* values, std::size_t count, float low, float high, float* out);
constexpr std::size_t kTakeSlack = 64;

} // namespace kasane
