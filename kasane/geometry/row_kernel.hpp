// The loop over the positions of a row through a bent map. Use geometry/transform.hpp.
#pragma once

#include <array>
#include <cstdint>

namespace kasane {

/// The cubic through four positions a third of a patch apart (Newton's divided differences).
struct Cubic {
    double step; ///< thirds of a patch a pixel
    double start, first, second, third;
    Cubic(const std::array<double, 4>& p, double thirds)
        : step(thirds), start(p[0]), first(p[1] - p[0]), second(0.5 * (p[2] - 2 * p[1] + p[0])),
          third((p[3] - 3 * p[2] + 3 * p[1] - p[0]) / 6) {}
    /// At pixel `i` of the patch.
    double operator()(int i) const {
        const double t = i * step;
        return start + t * (first + (t - 1) * (second + (t - 2) * third));
    }
};

/// Below this a position can be counted: added to 1.5 times 2^20 it has its last bit at 2^-32 pixels, so that rounding
/// and counting are one.
inline constexpr double kMostCounted = 262144; // pixels
inline constexpr double kCounter = 1.5 * 1048576;

/// Pixels `from` to `from + count` of the patch, in units of 2^-32 pixels. Vectorised, with run-time dispatch; the same
/// bits for every instruction set.
void count_along(const Cubic& along, int from, int count, std::int64_t* out);
void count_along_reference(const Cubic& along, int from, int count, std::int64_t* out);

} // namespace kasane
