// The pixel grid of an output.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>

namespace kasane {

/// What an output shows.
enum class Framing {
    reference,  ///< what the reference shows
    everything, ///< what any frame shows
    common,     ///< what most of the weight of every stack shows
    given,      ///< a rectangle given by hand
};

/// Origin, scale, turn and size of the output against the reference's pixels. The picture of the reference is turned,
/// then mirrored, then scaled; the first pixel of the canvas, (0, 0), is then the one that shows `origin`.
struct Canvas {
    int width = 0, height = 0; ///< pixels
    Point origin;              ///< the centre of the first pixel, in pixels of the reference
    double scale = 1;          ///< pixels of the canvas along the side of one of the reference
    double turn = 0;           ///< degrees, counter-clockwise as displayed, of the picture against the reference
    bool mirror = false;       ///< left and right of the turned picture change places
    Framing framing = Framing::reference;

    Region bounds() const { return {0, 0, width, height}; }
    Point centre() const { return {0.5 * (width - 1), 0.5 * (height - 1)}; }
    /// From its pixels to those of the reference.
    Affine to_reference() const;
    /// Whether it is the reference's own grid or a part of it: whole pixels, neither turned nor scaled.
    bool on_the_grid() const;
    bool operator==(const Canvas&) const = default;
};

/// The canvas that is the reference's own grid.
inline Canvas reference_canvas(int width, int height) {
    return {.width = width, .height = height};
}

} // namespace kasane
