// Gradients: what a master light shows of lamps, moon and twilight, told from places that are sky and taken off.
//
// Which places are sky is not known beforehand, and nebula is always brighter than the sky it lies on. So a surface is
// laid below most of what is seen (a quantile regression: R. Koenker and G. Bassett, Econometrica 46, 1978), what rises
// above it by more than what lies below it scatters is no sky, and so on until nothing changes. Surfaces are
// polynomials or smooth splines, no more bent than leaving out a part of the field and foretelling it bears out
// (cross-validation by blocks: D. Roberts et al., Ecography 40, 2017): a surface that follows what surrounds a nebula
// must hold below it.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>

#include <string>
#include <vector>

namespace kasane {

enum class GradientKind { polynomial, spline };

struct GradientOptions {
    GradientKind kind = GradientKind::polynomial;
    int degree = 0;              ///< of a polynomial, 1 to 6; 0: what cross-validation bears out
    std::vector<Region> sky;     ///< boxes that are sky, whatever they show
    std::vector<Region> not_sky; ///< boxes that are none
    static constexpr int kMostDegree = 6;
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
    bool operator==(const GradientOptions&) const = default;
};

/// A place whose level is known.
struct SkySpot {
    enum class Use { sky, bright, forbidden };
    double x = 0, y = 0; ///< pixels
    float value = 0;     ///< ADU
    float noise = 0;     ///< of that, as the pixels' noise lets expect
    Use use = Use::sky;
    bool by_hand = false; ///< in a box that is sky
};

/// A smooth surface: values at every `step`-th pixel both ways, bilinear between.
struct SmoothSurface {
    Image nodes; ///< node (i, j) lies at pixel (i step, j step); the last ones at or beyond the edge
    int step = 1;
    float at(double x, double y) const;
    void row(int y, int width, float* out) const;
};

struct Gradient {
    std::string kind; ///< "a polynomial of degree 2", "a spline"
    double level = 0; ///< mean of the surface, ADU
    double size = 0;  ///< from the least to the greatest of it, ADU
    double sky = 0;   ///< level of the sky where least lies on it, ADU: `level`, or below it in fields full of nebula
    double left = 0;  ///< what places of sky scatter about it, ADU
    double expected = 0; ///< what they would by the pixels' noise alone
    int side = 0;        ///< of a spot, pixels
    int parts = 0;       ///< of sixteen parts of the field, those that show sky
    std::vector<SkySpot> spots;
    SmoothSurface surface;
    double share() const; ///< of the spots that are sky
};

/// The gradient of one plane. Throws DataError where fewer than six places are sky, UsageError for options that make no
/// sense. Same for any threads.
Gradient fit_gradient(View<const float> plane, const StarList& stars, const GradientOptions& options,
                      const Workers& workers);

/// Takes it off: subtracted, the mean of the surface stays; divided, the plane is multiplied by that mean over the
/// surface. Throws DataError where a surface that is divided by is not above zero.
void take_off(const Gradient& gradient, bool divide, View<float> plane, const Workers& workers);

} // namespace kasane
