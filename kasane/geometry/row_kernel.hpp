// The loop over the positions of a row through a bent map. Use geometry/transform.hpp.
#pragma once

#include <kasane/image/positions.hpp>

#include <array>
#include <bit>
#include <cmath>
#include <cstdint>
#include <span>

namespace kasane {

/// Pixels of a patch that are counted from one place: so few that single precision errs by a millionth of a pixel.
inline constexpr int kRowBlock = kRowSlack + 1;

/// Where a row of a patch lies, one coordinate: a cubic, in pixels from the patch's first.
struct Cubic {
    double start = 0, first = 0, second = 0, third = 0;
    std::int32_t stride = 0; ///< by how many whole pixels of the frame a pixel goes on, about

    /// Through places a third of a patch apart, `per_pixel` thirds a pixel (Newton's divided differences).
    static Cubic through(const std::array<double, 4>& p, double per_pixel) {
        const double one = p[1] - p[0], two = 0.5 * (p[2] - 2 * p[1] + p[0]),
                     three = (p[3] - 3 * p[2] + 3 * p[1] - p[0]) / 6;
        return {p[0], per_pixel * (one - two + 2 * three), per_pixel * per_pixel * (two - 3 * three),
                per_pixel * per_pixel * per_pixel * three,
                static_cast<std::int32_t>(std::lround(per_pixel * (p[3] - p[0]) / 3))};
    }
    double operator()(double i) const { return start + i * (first + i * (second + i * third)); }
};

/// Of a row of a patch the pixels `from` to `from + count`.
struct PatchRow {
    Cubic u, v;
    int from, count;
};

/// Farther away (pixels) a patch is not followed by cubics.
inline constexpr double kMostCounted = 262144;

/// Single precision and whole numbers: added to this, a whole number is its last bits.
inline constexpr float kWholeNumbers = 0x1.8p23f;

/// Rows that follow one another into `out`, of which all but the last end with a block. Vectorised, with run-time
/// dispatch; no product is fused with a sum, and the bits are the same for every instruction set, and from wherever a
/// row is begun.
void split_patch_rows(std::span<const PatchRow> rows, const SplitRow& out);
void split_patch_rows_reference(std::span<const PatchRow> rows, const SplitRow& out);

} // namespace kasane
