// The pixels of a rectangle in the order in which they lie side by side in a frame that is turned.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/image/positions.hpp>

#include <cstddef>
#include <span>
#include <vector>

namespace kasane {

/// Digital lines (J. Bresenham, IBM Systems Journal 4, 1965) along the rows of the frame: one pixel for each column of
/// the rectangle, or for each row where the frame is turned by more than 45 degrees. Every pixel lies in one of them.
/// What is interpolated along them reads whole stretches of two or three rows of the frame beside each other, where the
/// rows of the rectangle themselves would go across all of its rows.
class TurnedOrder {
public:
    /// Of `width` x `height` pixels whose rows are `stride` places apart. `to_frame` is where they lie in the frame.
    TurnedOrder(const Affine& to_frame, int width, int height, std::ptrdiff_t stride);

    /// The next groups, as many as there is room for; 0 when all were told. The last of a line that holds a whole one
    /// is whole too, and tells some pixels again.
    std::size_t next(std::span<LineGroup> to);

    /// Places are y * stride + x.
    LineTable table() const { return {rise_.data(), places_.data(), step_}; }
    /// Whether pixels along a line go from row to row, not from column to column.
    bool steep() const { return steep_; }
    /// Pixels along a line, and lines beside each other.
    int length() const { return static_cast<int>(rise_.size()); }
    int across() const { return across_; }
    /// The column (or row, where lines go from column to column) that lies so far across.
    int beside(int at) const { return falling_ ? across_ - 1 - at : at; }

    /// Whether neighbours of a row lie in different rows of the frame often enough for this to be worth while.
    static bool worth_while(const Affine& to_frame);

private:
    void settle_line();

    bool steep_, falling_; ///< lines that fall are lines that rise from the last row up
    std::vector<std::int32_t> rise_, places_;
    int across_;
    std::int32_t step_;
    int line_, begin_, end_; ///< what comes next: a line, the part of it that lies within the rectangle
    int at_ = 0;             ///< and how far it was told
};

} // namespace kasane
