// The loop over the positions of a row through a bent map. Use geometry/transform.hpp.
#pragma once

#include <kasane/image/positions.hpp>

#include <array>
#include <cmath>
#include <cstdint>
#include <span>

namespace kasane {

/// Of a row of a patch the pixels `from` to `from + count`: where it meets the four columns of places, u of each and
/// then v of each.
struct PatchRow {
    std::array<double, 8> at;
    int from, count;
};

/// Pixels of a patch that are counted from one place: sixteen, so that single precision errs by a millionth of a pixel.
inline constexpr int kRowBlock = 16;
struct RowBlock {
    std::int32_t whole;
    float start, slope, bend;
};

/// The cubic along a row, in pixels from the patch's first.
struct Cubic {
    double start, first, second, third;
    /// How many whole pixels of the frame a pixel goes on, about.
    std::int32_t stride;

    /// Through four places, `per_pixel` thirds of a patch a pixel.
    Cubic(const double* p, double per_pixel) : start(p[0]) {
        const double one = p[1] - p[0], two = 0.5 * (p[2] - 2 * p[1] + p[0]),
                     three = (p[3] - 3 * p[2] + 3 * p[1] - p[0]) / 6;
        first = per_pixel * (one - two + 2 * three);
        second = per_pixel * per_pixel * (two - 3 * three);
        third = per_pixel * per_pixel * per_pixel * three;
        stride = static_cast<std::int32_t>(std::lround(per_pixel * (p[3] - p[0]) / 3));
    }
    double operator()(double i) const { return start + i * (first + i * (second + i * third)); }
    /// From pixel `at` on.
    RowBlock block(int at) const {
        const double i = at, value = (*this)(i), whole = std::floor(value);
        return {static_cast<std::int32_t>(whole), static_cast<float>(value - whole),
                static_cast<float>(first + i * (2 * second + i * (3 * third)) - stride),
                static_cast<float>(second + i * (3 * third))};
    }
};

/// Farther away (pixels) a patch is not followed by cubics.
inline constexpr double kMostCounted = 262144;

/// Rows that follow one another into `out`. Vectorised, with run-time dispatch; no product is fused with a sum, and
/// the bits are the same for every instruction set, and from wherever a row is begun.
void split_patch_rows(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out);
void split_patch_rows_reference(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out);

} // namespace kasane
