// One image put onto the grid of another.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/image/plane_source.hpp>

#include <memory>
#include <vector>

namespace kasane {

struct RegriddedImage {
    Image pixels;    ///< planes of the source; NaN where it has no data
    Image coverage;  ///< one plane: share of each pixel that the source covers, 0..1
    int parts = 1;   ///< samples along the side of a pixel
    double area = 1; ///< of a pixel of the canvas, in pixels of the source, at the middle of what both show
};

/// Resamples `source` onto `canvas`, to which `to_frame` leads. Surface brightness is kept: a value stays what it is
/// for a pixel of the source, so that the sum over a star changes by 1 / area. Where the canvas is coarser than the
/// source, each of its pixels is the mean of as many Lanczos-3 samples as there are pixels of the source along its side
/// (at most 8), so that nothing is lost or folded back. `noise` of each plane (ADU) tells ringing from noise; 0:
/// ringing stays. Throws DataError where the budget does not hold the result; InputError.
RegriddedImage regrid(const std::shared_ptr<const PlaneSource>& source, const Transform& to_frame, const Canvas& canvas,
                      const std::vector<double>& noise, const Context& context);

} // namespace kasane
