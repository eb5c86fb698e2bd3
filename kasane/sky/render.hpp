// One exposure: what the sky, the mount and the camera make of the scene, with the truth that led to it.
#pragma once

#include <kasane/sky/instrument.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/sky/scene.hpp>

#include <array>
#include <optional>
#include <string>
#include <vector>

namespace kasane::sky {

/// Where the camera points: scene position (sx, sy) lands on pixel
///   centre + scale * R(rotation) * ((sx, sy) - (offset_x, offset_y)),   R counter-clockwise as displayed,
/// after `sky` has moved it on the plane of the scene.
struct Pointing {
    double offset_x = 0, offset_y = 0; ///< scene pixels
    double rotation = 0;               ///< degrees; 180 after a meridian flip
    double scale = 1;
    std::array<double, 9> sky{1, 0, 0, 0, 1, 0, 0, 0, 1}; ///< projective, rows; see sky_turn
};

/// What a turn of the sky about a pole does to the plane that a lens of this focal length (pixels) shows without
/// distortion: where a camera stands still, the sky turns by 15 degrees an hour. The pole is a place on the plane.
std::array<double, 9> sky_turn(double focal_pixels, double pole_x, double pole_y, double degrees);

/// What turning the camera does to the same plane: the place (x, y) comes to (0, 0), and what was up there stays up.
std::array<double, 9> sky_pointed(double focal_pixels, double x, double y);

/// The place of the scene that a pixel shows, through the glass.
Point scene_at(const Pointing& pointing, const Instrument& instrument, Point pixel);
/// The pixel that shows a place of the scene.
Point pixel_of(const Pointing& pointing, const Instrument& instrument, Point scene);

/// The affine part of a pointing for an instrument: pixel = m * (sx, sy, 1).
std::array<double, 6> scene_to_pixel(const Pointing& pointing, int width, int height);

/// A streak across the frame.
struct Trail {
    double x0 = 0, y0 = 0, x1 = 0, y1 = 0; ///< pixels
    double electrons = 0;                  ///< per pixel on its ridge
    double width = 1.2;                    ///< standard deviation, pixels
    double blink = 0;                      ///< length of the dashes of a flashing light, pixels; 0: steady
};

/// A glow in the field: a lamp's reflection.
struct Lamp {
    double x = 0, y = 0; ///< pixels
    double radius = 100; ///< standard deviation, pixels
    double rate = 0;     ///< electrons per second and pixel in its middle
};

/// A comet in the middle of the exposure: a nucleus, a coma about it, and a tail; brightest through L, then G.
struct Comet {
    double x = 0, y = 0;             ///< scene
    double moved_x = 0, moved_y = 0; ///< during the exposure, scene pixels
    double nucleus = 0;              ///< electrons per second through L, over all pixels
    double coma = 0, size = 8;       ///< the same a pixel in its middle; pixels at which it falls to 0.6 of that
    double tail = 0, length = 120;   ///< the same where the tail begins; pixels over which it falls to a third
    double tail_angle = 30;          ///< degrees, counter-clockwise as displayed, from the right
    /// Coma and tail through L at a place of the scene, without the motion, electrons per second and pixel.
    double light_at(double scene_x, double scene_y) const;
    /// What a filter shows of it.
    static double share_through(const std::string& filter);
};

/// All that changes from light to light.
struct Conditions {
    Pointing pointing;
    double transparency = 1;
    double sky = 2.0;                      ///< electrons per second and pixel at the centre
    double gradient_x = 0, gradient_y = 0; ///< relative change of the sky from the centre to the edge
    double bow = 0;               ///< relative brightening of the sky towards the corners, growing with the square
    std::vector<Lamp> lamps;      ///< glows of their own
    double fwhm = 3.0;            ///< pixels
    double ellipticity = 0;       ///< 1 - b/a
    double ellipticity_angle = 0; ///< degrees, of the long axis
    std::vector<Trail> trails;
    std::optional<Comet> comet;
    double cosmic_rays = 0;         ///< expected number
    std::vector<Point> skyline;     ///< from left to right; below it is land; empty: none
    double obstruction = -1;        ///< share of the frame's height covered from below; < 0: none
    std::vector<std::string> flaws; ///< "cloud", "twilight", "wind", "obstruction", "trail"
};

/// An instrument with the maps that were made of it.
struct Camera {
    const Instrument& instrument;
    const InstrumentMaps& maps;
};

/// Electrons before noise: stars, extended emission and sky through the glass, without dark current.
Image render_light(const Scene& scene, const std::string& filter, const Camera& camera, const Conditions& conditions,
                   double seconds);

/// Stars and extended emission alone (electrons per second), through a perfect instrument: the truth of a master light.
Image render_truth(const Scene& scene, const std::string& filter, const Instrument& instrument,
                   const Conditions& conditions);

/// How light falls onto the sensor, beside how much of it.
struct Exposing {
    double seconds = 0, temperature = 0; ///< the sensor's, degrees C
    double cosmic_rays = 0;              ///< expected number
};

/// Photon noise, dark current, read noise, cosmic rays, offset, gain, saturation, 16 bits.
Raster<std::uint16_t> expose(const Image& electrons, const Camera& camera, const Exposing& how, std::uint64_t seed);

} // namespace kasane::sky
