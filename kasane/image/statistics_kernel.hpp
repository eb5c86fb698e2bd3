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

/// Two neighbouring values in ascending order.
struct Neighbours {
    float at = 0;   ///< the value of the rank asked for
    float next = 0; ///< the one after it, the same again where there is none
};

/// The value of a rank (0 is the lowest) of values that are numbers, and the one after it. By halving the range in
/// which the value lies until few are left in it: nothing is moved, and no branch depends on a single value.
Neighbours select_rank(const float* values, std::size_t count, std::size_t rank);

} // namespace kasane
