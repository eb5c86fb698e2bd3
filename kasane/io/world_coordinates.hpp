// Where on the sky a pixel lies: world coordinates of headers in the gnomonic projection, with distortion polynomials.
//
// Celestial coordinates in FITS (M. Calabretta and E. Greisen, A&A 395, 2002), the projection TAN with CD, PC and
// CDELT, or CDELT and CROTA2; distortion as SIP (D. Shupe et al., ADASS XIV, ASP Conf. Ser. 347, 2005).
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/io/header.hpp>

#include <array>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A direction, degrees.
struct SkyPoint {
    double ra = 0, dec = 0;
};

/// The angle between two directions, degrees.
double separation(const SkyPoint& a, const SkyPoint& b);

struct WorldCoordinates {
    static constexpr int kMostOrder = 9;
    using Polynomial = std::array<std::array<double, kMostOrder + 1>, kMostOrder + 1>; ///< [power of x][power of y]

    Point pixel;                   ///< where `sky` lies, centres at integers, the first pixel (0, 0)
    SkyPoint sky;                  ///< the point where the projection touches
    std::array<double, 4> cd{};    ///< degrees a pixel: xi by x and y, eta by x and y
    int order = 0;                 ///< of the distortion; 0: none
    Polynomial gain_x{}, gain_y{}; ///< what x and y gain from their own distance to `pixel`
    std::string frame, equinox;    ///< RADESYS and EQUINOX as they are written; may be empty

    SkyPoint to_sky(Point pixel) const;
    /// NaN behind the projection's horizon.
    Point to_pixel(const SkyPoint& sky) const;
    /// Of a pixel at `pixel`, arc seconds along its side, by its area.
    double arcsec_per_pixel() const;
    /// The same with the rows of an image of this height in the other order.
    WorldCoordinates with_rows_reversed(int height) const;
};

/// What a header says; nothing if it says nothing of the kind. Rows are counted as they are stored. `wrong`, if given,
/// receives why what is there cannot be used: another projection, numbers that are missing, or a pixel that is nearly a
/// line.
std::optional<WorldCoordinates> read_world(const Header& header, std::string* wrong = nullptr);

/// Adds the cards, distortion and its inverse included, for an image of this size.
void write_world(Header& header, const WorldCoordinates& world, int width, int height);

/// Where pixels of a grid lie, as they were found at places all over it.
struct SkySample {
    Point pixel;
    SkyPoint sky;
};

/// World coordinates of a grid from samples: no distortion where that does, else SIP of the lowest order up to 7 that
/// leaves less than `tolerance` pixels everywhere. `left`, if given, receives what it leaves at most, pixels. Nothing
/// where the samples do not determine it.
std::optional<WorldCoordinates> fit_world(const std::vector<SkySample>& samples, int width, int height,
                                          double tolerance = 0.01, double* left = nullptr);

} // namespace kasane
