// The pixel grid of an output.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>

namespace kasane {

/// How an output was framed.
enum class Framing {
    reference, ///< the reference's own grid
};

/// Origin, scale, turn and size of the output against the reference's pixels. A pixel of the canvas, (0, 0) its first,
/// lies at `origin` plus its place, turned and divided by `scale`, in pixels of the reference.
struct Canvas {
    int width = 0, height = 0; ///< pixels
    Point origin;              ///< of the first pixel's centre, pixels of the reference
    double scale = 1;          ///< pixels of the canvas along the side of one of the reference
    double turn = 0;           ///< degrees, counter-clockwise as displayed, of the canvas against the reference
    Framing framing = Framing::reference;

    Region bounds() const { return {0, 0, width, height}; }
    Point centre() const { return {0.5 * (width - 1), 0.5 * (height - 1)}; }
    /// From its pixels to those of the reference.
    Affine to_reference() const;
    bool operator==(const Canvas&) const = default;
};

/// The canvas that is the reference's own grid.
inline Canvas reference_canvas(int width, int height) {
    return {width, height, {}, 1, 0, Framing::reference};
}

} // namespace kasane
