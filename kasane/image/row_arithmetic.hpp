// Loops over the values of a row that every frame goes through. Vectorised, with run-time dispatch; the same bits for
// every instruction set.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

namespace kasane {

/// to[i] = (to[i] - subtract[i]) * multiply[i], the difference rounded first; either may be null, and is left out then.
/// Whether all of them are finite.
bool calibrate_row(float* to, const float* subtract, const float* multiply, std::size_t count);

/// by[i] = level[i] / by[i] where by[i] > least * level[i]; NaN elsewhere.
void reciprocal_row(float* by, const float* level, float least, std::size_t count);

/// to[i] = kernel[0] * middle[i] + kernel[1] * (before[0][i] + after[0][i]) + ..., from the left; `taps` of the kernel.
void symmetric_row(float* to, const float* middle, const float* const* before, const float* const* after,
                   const float* kernel, std::size_t taps, std::size_t count);

/// to[i] = kernel[0] * from[0][i] + kernel[1] * from[1][i] + ..., from the left.
void weighted_row(float* to, const float* const* from, const float* kernel, std::size_t taps, std::size_t count);

/// to[i] = from[i] where that is higher; what is no number does not count.
void raise_row(float* to, const float* from, std::size_t count);

/// to[i] = base + slope * (first + i), a plane along a row.
void ramp_row(float base, float slope, int first, std::size_t count, float* to);

/// A row between two rows of a mesh of `cells` cells of `cell` pixels side by side, whose values hold in their middles:
/// (1 - share) above + share below, straight between cells, constant beyond the outermost.
struct MeshRow {
    const float *above, *below;
    float share;
    int cells, cell;
};
/// Its `count` values from column `first` on: the same wherever a row begins.
void mesh_row(const MeshRow& mesh, int first, int count, float* to);
/// to[i] = from[i] - the mesh there, and 0 where that is no number.
void minus_mesh_row(const MeshRow& mesh, const float* from, int first, int count, float* to);

/// to[i] += c[0] + t (c[1] + t (c[2] + t c[3])), where t = start + step * (first + i): the same wherever a row begins.
void add_cubic_row(const std::array<float, 4>& c, float start, float step, int first, std::size_t count, float* to);

/// to[i] = scale[i] * to[i] + offset[i], the product rounded first. Whether all of them are finite.
bool scale_row(float* to, const float* scale, const float* offset, std::size_t count);

/// to[i] = before[i] - 2 * middle[i] + after[i], the first difference rounded first.
void second_difference_row(const float* before, const float* middle, const float* after, std::size_t count, float* to);

/// Every `step`-th of `count` values, from the first on, one after the other. How many there are.
std::size_t take_every(const float* values, std::size_t step, std::size_t count, float* to);

/// The highest value; minus infinity where none is a number.
float highest_of(const float* values, std::size_t count);

/// Whether any value is not finite.
bool any_gap(const float* values, std::size_t count);

/// Whether any value is as high as `limit`.
bool any_at_least(const float* values, float limit, std::size_t count);

/// Three rows of an image, one below the other, that have values on both sides of those that are looked at.
struct ThreeRows {
    const float *above, *here, *below;
};

/// The places of values of the middle row that lie above a limit and above their eight neighbours (as high as those
/// that come first in reading order), into `places`, which has room for `count` of them. How many.
std::size_t peaks_of_row(const ThreeRows& rows, float limit, std::size_t count, std::int32_t* places);

/// How many values are as high as `limit`.
std::size_t count_at_least(const float* values, float limit, std::size_t count);

/// Values that are numbers and not covered, one after the other into `to`, which has room for all of them and
/// kTakeSlack more (statistics_kernel.hpp). `present` counts the numbers, covered or not. How many there are.
std::size_t take_uncovered(const float* values, const std::uint8_t* covered, std::size_t count, float* to,
                           std::size_t& present);

/// Where the values of one cell of a row go, and how many there are.
struct CellValues {
    float* next = nullptr;   ///< has room for what is taken and kTakeSlack more
    std::size_t present = 0; ///< numbers, covered or not
};
/// take_uncovered of each cell of a row: cell k has `side` values from k * side on, the last one all that follow.
void take_uncovered_cells(const float* values, const std::uint8_t* covered, int side, std::size_t count,
                          std::size_t cells, CellValues* to);

/// Values that are numbers.
std::size_t count_present(const float* values, std::size_t count);
/// The same of those where `where` is not 0.
std::size_t count_present(const float* values, const std::int32_t* where, std::size_t count);

} // namespace kasane
