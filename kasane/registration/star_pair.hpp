// Two star lists that are to be brought together, and pairs of their stars.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/registration/star_index.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

/// A star of the reference and the star of the frame that is the same.
struct StarMatch {
    int reference = 0, frame = 0; ///< indices into both lists
    bool operator==(const StarMatch&) const = default;
};

/// The rectangle that a list's stars fill.
struct StarExtent {
    double x0 = 1e30, y0 = 1e30, x1 = -1e30, y1 = -1e30;
    explicit StarExtent(const std::vector<Star>& stars) {
        for (const Star& s : stars) {
            x0 = std::min(x0, s.x), y0 = std::min(y0, s.y);
            x1 = std::max(x1, s.x), y1 = std::max(y1, s.y);
        }
    }
    bool holds(double x, double y) const { return x >= x0 && x <= x1 && y >= y0 && y <= y1; }
    double area() const { return std::max(1.0, (x1 - x0) * (y1 - y0)); }
    double half_diagonal() const { return 0.5 * std::hypot(x1 - x0, y1 - y0); }
};

/// Both lists, brightest first, and where the frame's stars are. All are referred to, not owned.
struct StarPair {
    const std::vector<Star>& reference;
    const std::vector<Star>& frame;
    const StarIndex& index; ///< of `frame`

    const Star& of_reference(const StarMatch& m) const { return reference[static_cast<std::size_t>(m.reference)]; }
    const Star& of_frame(const StarMatch& m) const { return frame[static_cast<std::size_t>(m.frame)]; }
};

/// Variance of a star's position along one axis, square pixels: below the floor, other errors rule.
inline double position_variance(const Star& s) {
    constexpr double kFloor = 0.02; // pixels
    return s.position_sigma * s.position_sigma + kFloor * kFloor;
}

} // namespace kasane
