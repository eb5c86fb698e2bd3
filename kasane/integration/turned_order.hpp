// The pixels of a rectangle in the order in which they lie side by side in a frame that is turned.
#pragma once

#include <kasane/geometry/affine.hpp>

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace kasane {

/// Digital lines (J. Bresenham, IBM Systems Journal 4, 1965) along the rows of the frame: one pixel for each column of
/// the rectangle, or for each row where the frame is turned by more than 45 degrees. Every pixel lies in one of them.
/// What is interpolated along them reads whole stretches of two or three rows of the frame beside each other, where the
/// rows of the rectangle themselves would go across all of its rows.
class TurnedOrder {
public:
    /// Places that come together in one line, its last one repeated where need be.
    static constexpr int kTogether = 16;

    /// Of `width` x `height` pixels whose rows are `stride` places apart. `to_frame` is where they lie in the frame.
    TurnedOrder(const Affine& to_frame, int width, int height, std::ptrdiff_t stride);

    /// The next places (y * stride + x), as many as there is room for: a multiple of kTogether; 0 when all were told.
    /// `to` has room for kTogether at least.
    std::size_t next(std::span<std::int32_t> to);

    /// Whether neighbours of a row lie in different rows of the frame often enough for this to be worth while.
    static bool worth_while(const Affine& to_frame);

private:
    void settle_line();

    std::vector<std::int32_t> places_; ///< of the line that begins in the first row (or column), by pixel along it
    std::vector<int> offsets_;         ///< rows (columns) that it has risen by, ascending
    int across_;                       ///< lines beside each other: of rows (columns)
    std::int32_t step_;                ///< places from one line to the next
    int line_, at_ = 0, end_ = 0;      ///< what comes next: a line, and the rest of its pixels
};

} // namespace kasane
