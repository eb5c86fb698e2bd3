// The path of a comet among the stars, from where it is seen on the lights.
//
// A few marks by hand begin it; then each light tells by its own pixels where the comet is, and a polynomial in time
// goes through all that.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>
#include <kasane/stars/streaks.hpp>

#include <optional>
#include <vector>

namespace kasane {

/// Where a comet is at a time.
struct CometSighting {
    double time = 0;  ///< seconds since 1970, the middle of the exposure
    Point at;         ///< pixels of the reference's grid
    double sigma = 1; ///< error of a coordinate
};

/// A place as a polynomial of time.
struct CometPath {
    double epoch = 0;         ///< seconds since 1970
    std::vector<Point> terms; ///< of hours after the epoch: place, pixels an hour, pixels an hour squared, ...
    Point at(double time) const;
    Point rate(double time) const; ///< pixels a second
    int degree() const { return static_cast<int>(terms.size()) - 1; }
};

struct CometFit {
    CometPath path;
    std::vector<Point> off; ///< of each sighting, what it lies beside the path
    std::vector<bool> used; ///< outliers are not
    double rms = 0;         ///< of those used, of both coordinates together, pixels
};

/// Through the sightings by weighted least squares, outliers weighed down (Tukey's bisquare). The degree grows from 1
/// as long as there are three sightings for each coefficient and a further one lowers chi squared by twelve times what
/// is left of each degree of freedom; 3 at most. Nothing for fewer than two times.
std::optional<CometFit> fit_comet_path(const std::vector<CometSighting>& sightings);

struct CometSearch {
    double reach = 12;    ///< pixels around the place where it is expected
    double width = 3;     ///< standard deviation of the window in which its middle is told, pixels
    double least_snr = 8; ///< of its light in that window
};

/// A comet's middle in a picture.
struct CometMiddle {
    Point at;         ///< pixels of the picture
    double sigma = 0; ///< error of a coordinate, by noise alone
    double snr = 0;
};

/// The middle of what is brightest near a place: from the highest point of the smoothed picture, the centre of gravity
/// under a Gaussian window, moved until it stays (adaptive moments of weight alone: G. Bernstein and M. Jarvis, AJ 123,
/// 2002). `noise` is that of a pixel. Pixels under `stars` have the value of the one opposite about the middle. Nothing
/// where it is not bright enough, or runs away from the place.
std::optional<CometMiddle> find_comet(View<const float> picture, Point expected, double noise,
                                      const std::vector<Disc>& stars, const CometSearch& search = {});

} // namespace kasane
