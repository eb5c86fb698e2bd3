// Positions in fixed point as whole pixels and fractions, of rows and of pixels that lie anywhere. Vectorised, with
// run-time dispatch.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

namespace kasane {

/// Values beside a row of places, on both sides, that may be written as well: rows are made in whole vectors.
inline constexpr int kRowSlack = 15;

/// Room for the places of a row, and for kRowSlack beside them: whole pixels from (origin_x, origin_y) on, and the
/// fractions behind, in [0, 1].
struct SplitRow {
    int origin_x, origin_y;
    std::int32_t *column, *row;
    float *fraction_x, *fraction_y;
};

/// Such room for kCount places.
template <std::size_t kCount>
class SplitPlaces {
public:
    std::int32_t* column() { return whole_[0].data() + kRowSlack; }
    std::int32_t* row() { return whole_[1].data() + kRowSlack; }
    float* fraction_x() { return fractions_[0].data() + kRowSlack; }
    float* fraction_y() { return fractions_[1].data() + kRowSlack; }
    SplitRow from(int x, int y) { return {x, y, column(), row(), fraction_x(), fraction_y()}; }

private:
    std::array<std::array<std::int32_t, kCount + 2 * kRowSlack>, 2> whole_;
    std::array<std::array<float, kCount + 2 * kRowSlack>, 2> fractions_;
};

/// Positions in units of 2^-32 pixels as whole pixels from `origin` on, and the fractions behind (24 bits of them).
void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction);

/// The same of positions that lie evenly: start, start + step, ...
void split_even_positions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction);

/// Neighbours in a line that is interpolated together.
inline constexpr int kLineLanes = 16;

/// Lines that lie evenly: pixel i of line k is start[i] + k * step, for `lines` lines from k = 0 on, one after the
/// other.
void split_line_positions(const std::array<std::int64_t, kLineLanes>& start, std::int64_t step, std::size_t lines,
                          int origin, std::int32_t* whole, float* fraction);

/// Those of split positions that lie at `places`: places[0], places[1], ...
void pick_positions(const std::int32_t* from_whole, const float* from_fraction, const std::int32_t* places,
                    std::size_t count, std::int32_t* whole, float* fraction);

/// Rows out of lines, whose values lie one line after the other: to[i] = from[(n - rise[i]) * kLineLanes + i] for row n
/// of `rows` from 0 on, `step` values apart. `rise` is quick where neighbours in it are alike.
void rows_of_lines(const float* from, const std::array<std::int32_t, kLineLanes>& rise, std::size_t rows, float* to,
                   std::ptrdiff_t step);

/// to[i] = from[places[i]] for sixteen; then the same `step_from` and `step_to` values on, `times` times in all.
void gather_lanes(const float* from, std::ptrdiff_t step_from, const std::array<std::int32_t, kLineLanes>& places,
                  std::size_t times, float* to, std::ptrdiff_t step_to);

} // namespace kasane
