// Which pixels of a frame lie under a rectangle of the canvas.
#pragma once

#include <kasane/geometry/transform.hpp>

#include <vector>

namespace kasane {

/// The parts of a rectangle of a frame that lie under one of the canvas, taps of the interpolation included: a strip of
/// rows each. Of a frame that is turned they are little more than half of the rectangle.
class PartsUnder {
public:
    explicit PartsUnder(const Region& inside);

    /// Those that a plane needs: what is within the rectangle's border lies within that of its picture.
    void add(const Transform& to_frame, const Region& region);
    /// From the top; all of it where they are hardly less.
    std::vector<Region> parts() const;

private:
    struct Strip {
        double left, right; ///< pixels, ends included; none where `right` is less
    };
    void add(Point a, Point b, double margin);

    Region inside_;
    std::vector<Strip> strips_;
    bool everywhere_ = false;
};

} // namespace kasane
