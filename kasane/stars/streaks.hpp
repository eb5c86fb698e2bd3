// Trails of satellites, aircraft and meteors.
//
// Sums along all straight lines, in a time that is nearly that of reading the image: the fast discrete Radon transform
// (W. Goetz and H. Druckmueller, Pattern Recognition 29, 1996; M. Brady, SIAM J. Comput. 27, 1998), whose half-way
// stages hold the sums along shorter pieces, so that trails that begin or end within the frame are found as well (G.
// Nir, B. Zackay, E. Ofek, AJ 156, 2018). A line counts by what it has above its parallels, so that nebulae do not.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>
#include <kasane/stars/disc.hpp>

#include <string>
#include <vector>

namespace kasane {

struct Streak {
    double x0 = 0, y0 = 0, x1 = 0, y1 = 0; ///< ends, pixels of the image
    double half_width = 0;                 ///< to either side, as far as its light is seen; pixels of the image
};

struct StreakOptions {
    int size = 512;           ///< the image is averaged down to this longer side
    double threshold = 16;    ///< of the sum along one, in units of its noise
    double least_length = 40; ///< pixels of the image that was averaged down
    int most = 6;
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// What is known of an image in which streaks are looked for.
struct StreakField {
    View<const float> small; ///< the image averaged over squares of `bin` pixels
    int bin = 1;
    const Background& background;   ///< of the image, in its pixels
    const std::vector<Star>& stars; ///< the same; they are covered before
    double fwhm = 0;                ///< of the stars
};

/// Streaks of an image, strongest first.
std::vector<Streak> find_streaks(const StreakField& field, const StreakOptions& options = {});

} // namespace kasane
