// A comet told from the stars and nebulae that it moves before, and from noise.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>
#include <kasane/stars/streaks.hpp>

#include <vector>

namespace kasane {

/// A stack in which a comet moves, twice integrated.
struct MovingStack {
    const Image& among_stars;           ///< nothing rejected: the comet smeared along its way
    const Image& on_comet;              ///< the same along its path, without stars: what stands still is smeared
    const std::vector<Point>& moved;    ///< of the comet, by frame, against where it is in `on_comet`; pixels
    const std::vector<double>& weights; ///< of the frames
    const std::vector<Disc>& stars;     ///< of `among_stars`, with all of their light
    const std::vector<double>& noise;   ///< of `on_comet`, by plane, ADU
    Point nucleus;                      ///< in `on_comet`
};

/// `among_stars` without what it shows of the comet. Each of the two images is what stands still and what moves, one of
/// them smeared by the known motion: solved by turns on squares of four pixels or more, then on single ones (a Neumann
/// series: the comet is what follows it less what stands still, smeared; that is what stands still less the comet,
/// smeared), from no comet on, which is positive and hangs together. Light that is wider along the motion than that
/// stays with the stars.
Image without_moving(const MovingStack& stack);

/// Of a master light that follows a comet: what is its light, without sky and noise. The sky is a plane through medians
/// of squares, the comet among them weighed down; its light is kept where it hangs together with `nucleus` and stands
/// out of the noise when smoothed over four pixels: wholly from 8 sigma on, none below 3. `noise`: of the pixels, by
/// plane, ADU.
Image light_of_comet(const Image& master, const std::vector<double>& noise, Point nucleus);

} // namespace kasane
