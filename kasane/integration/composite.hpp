// One image made of several master lights on one canvas: each brought to a common scale, each as heavy as it is wanted.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>

namespace kasane {

/// What becomes of one image in a composite.
struct CompositePart {
    double background = 0; ///< of its sky, ADU
    double factor = 1;     ///< of what lies above it
    double weight = 1;     ///< at full coverage
};

struct CompositeImage {
    Image pixels;   ///< one plane; NaN where no part has data
    Image coverage; ///< share of the whole weight that each pixel received, 0..1
};

/// At each pixel the mean of factor (value - background) over the parts, weighed by their weights times their coverage
/// there: where each part's noise goes as the inverse root of its coverage, as that of a stack does, that is the
/// inverse-variance mean everywhere, and where a frame of one part ends there is no more of a step than its own weight
/// makes. The backgrounds' own mean is added again. One part after the other, so that no more than one is held.
class Composite {
public:
    Composite(int width, int height);
    /// Throws UsageError for images of another size.
    void add(View<const float> pixels, View<const float> coverage, const CompositePart& part);
    CompositeImage finish() const;

private:
    Image sum_, weight_;
    double whole_ = 0, background_ = 0;
};

/// What the fluxes of stars in `other` must be multiplied by to be those in `image`: the median over the stars of
/// `image` that are measured with a signal to noise of 20 in both and saturated in none. 0 with fewer than five.
double flux_ratio(View<const float> image, const StarList& stars, View<const float> other);

} // namespace kasane
