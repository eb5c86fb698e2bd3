// What is in the sky: stars, a nebula, a galaxy, a smooth background; the same for every exposure.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace kasane::sky {

/// A star on the scene plane. Positions are in pixels of the reference grid, its centre at (0, 0), x right, y down.
struct SceneStar {
    double x = 0;
    double y = 0;
    std::map<std::string, double> rate; ///< electrons per second by filter, over all pixels, at transparency 1
};

/// The sky through perfect glass. `extended` holds electrons per second and pixel by filter, on a grid whose pixel
/// (i, j) lies at scene position (i - width / 2, j - height / 2) x extended_step.
struct Scene {
    std::vector<SceneStar> stars;
    std::map<std::string, Image> extended;
    double extended_step = 1;

    /// Extended emission at a scene position (bilinear); 0 outside. Electrons per second and pixel.
    float extended_at(const Image& map, double x, double y) const;
};

struct SceneOptions {
    std::uint64_t seed = 1;
    int width = 900; ///< field to be covered, in reference pixels; the scene reaches beyond it by the margin
    int height = 600;
    int margin = 120;
    std::vector<std::string> filters = {"L", "R", "G", "B", "Ha"};
    int stars = 500;               ///< within the field; more in the margin at the same density
    double faintest_rate = 4;      ///< electrons per second through L
    double brightest_rate = 60000; ///< the distribution is a power law: N(> rate) ~ rate^-slope
    double slope = 0.75;
    double nebula = 1.6; ///< peak surface brightness through L, electrons per second and pixel; 0: none
    double galaxy = 6.0; ///< the same for the galaxy's core
    double veil = 0;     ///< nebula that fills the field, electrons per second and pixel through a filter of hydrogen
    double texture = 0;  ///< of veil and nebula: relative, standard deviation about; down to features of four pixels
    double flame = 0;    ///< in the lantern: peak surface brightness through L, electrons per second and pixel
    double extended_step = 1;
};

/// The Paper Lantern Nebula and its field.
Scene make_scene(const SceneOptions& options, const Workers& workers);

} // namespace kasane::sky
