// The pixels of a rectangle in the order in which they lie side by side in a frame that is turned.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/image/positions.hpp>

#include <span>
#include <vector>

namespace kasane {

/// Digital lines (J. Bresenham, IBM Systems Journal 4, 1965) along the rows of the frame: one pixel for each column of
/// the rectangle, or for each row where the frame is turned by more than 45 degrees. Every pixel lies in one of them.
/// What is interpolated along them reads whole stretches of two or three rows of the frame beside each other, where the
/// rows of the rectangle themselves would go across all of its rows.
class TurnedOrder {
public:
    /// Of no pixel.
    TurnedOrder() = default;
    /// Of `width` x `height` pixels. `to_frame` is where they lie in the frame.
    TurnedOrder(const Affine& to_frame, int width, int height);
    /// Whether it serves another map as well: its lines leave the rows of the frame by a tenth of a pixel at most
    /// before a group ends.
    bool fits(const Affine& to_frame, int width, int height) const;

    /// Every pixel in one group at least. The last group of a line that holds a whole one is whole too, and tells some
    /// pixels again.
    std::span<const LineGroup> groups() const { return groups_; }
    /// Places are y * width + x.
    LineTable table() const { return {rise_.data(), places_.data(), step_}; }
    /// Whether pixels along a line go from row to row, not from column to column.
    bool steep() const { return steep_; }
    /// Pixels along a line, and lines beside each other.
    int length() const { return steep_ ? height_ : width_; }
    int across() const { return steep_ ? width_ : height_; }
    /// The column (or row, where lines go from column to column) that lies so far across.
    int beside(int at) const { return slope_ < 0 ? across() - 1 - at : at; }

    /// Whether neighbours of a row lie in different rows of the frame often enough for this to be worth while.
    static bool worth_while(const Affine& to_frame);

private:
    static bool is_steep(const Affine& to_frame);
    static double slope_of(const Affine& to_frame);

    bool steep_ = false;
    int width_ = 0, height_ = 0;
    double slope_ = 0; ///< lines that fall are lines that rise from the last row up
    std::int32_t step_ = 0;
    std::vector<std::int32_t> rise_, places_;
    std::vector<LineGroup> groups_;
};

} // namespace kasane
