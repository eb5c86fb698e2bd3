// Which part of the sky an output shows, how it is turned, and how fine its pixels are.
#pragma once

#include <kasane/geometry/canvas.hpp>

#include <cstddef>
#include <functional>
#include <string>
#include <vector>

namespace kasane {

struct FramingOptions {
    Framing frame = Framing::reference;
    Region region;       ///< the rectangle where it is given by hand, pixels of the reference
    double share = 0.9;  ///< common: of the weight of every stack, that lies wherever the output shows something
    double turn = 0;     ///< degrees, counter-clockwise as displayed
    bool mirror = false; ///< left and right change places, after the turn
    double scale = 1;    ///< pixels of the output along the side of one of the reference
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// A frame, as far as framing is concerned.
struct FramedFrame {
    Transform to_frame;                  ///< from the reference's grid
    int width = 0, height = 0;           ///< pixels
    std::size_t stack = 0;               ///< that it belongs to, by any number
    double weight = 1;                   ///< in its stack, to any sum
    std::function<bool(Point)> hidden{}; ///< no sky is there, in pixels of the frame; empty: all of it is sky
};

/// The canvas for frames that lie on the grid of a reference of `width` x `height` pixels. It begins at an edge of the
/// reference's pixels where it is turned by quarters only, so that scale 1 needs no further interpolation of the
/// reference. Everything: the smallest rectangle that holds the outlines of all frames. Common: the largest rectangle
/// that the share of the weight of every stack covers, margins of interpolation and what is hidden left out, by a
/// lattice of places and then pixel by pixel. A turned canvas holds the whole of what it shows, with corners that hold
/// nothing. Throws UsageError for options that make no sense, DataError where frames have nothing in common or show
/// nothing of the rectangle, or too much sky lies between them.
Canvas frame_canvas(const FramingOptions& options, int width, int height, const std::vector<FramedFrame>& frames);

/// The reference's grid, made larger by whole pixels where a canvas shows more: neither turned nor scaled.
Canvas grid_around(const Canvas& canvas, int width, int height);

/// What a canvas is against its reference, in words: "everything that a light shows, 6120 x 4130 pixels, turned by 90
/// degrees".
std::string canvas_text(const Canvas& canvas);

} // namespace kasane
