// Pixels of the canvas that lie side by side in a frame that is turned.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/image/positions.hpp>

#include <array>
#include <cstdint>

namespace kasane {

/// Of the neighbours in a line how far across each lies, counted from the first; by at most one more, or one less, from
/// each to the next.
using LaneRise = std::array<std::int32_t, kLineLanes>;

/// Digital lines (J. Bresenham, IBM Systems Journal 4, 1965) along the rows of the frame, sixteen pixels long: one in
/// each column, or in each row where the frame is turned by more than 45 degrees, and so many across from the first as
/// `rise` says. What is interpolated along them reads whole stretches of two or three rows of the frame, where the rows
/// of the canvas would go across many.
struct Slant {
    bool steep = false; ///< along them go the rows of the canvas, across the columns; else the other way round
    LaneRise rise{};    ///< 0 first, monotonic

    /// `to_frame` is where pixels of the canvas lie in the frame.
    explicit Slant(const Affine& to_frame);
    int lowest() const;
    int highest() const;

    /// Whether neighbours of a row lie in different rows of the frame often enough for this to be worth while.
    static bool worth_while(const Affine& to_frame);
};

} // namespace kasane
