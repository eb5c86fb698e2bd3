// What sharpening did, to look at: places before and after, pixel by pixel.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/stars/field_psf.hpp>

#include <vector>

namespace kasane {

class SharpeningPicture {
public:
    /// Takes a few places of a plane as it is before: the middle, and around a star of the brighter ones, the
    /// brightest, and one with a flat top, if there is any.
    SharpeningPicture(View<const float> before, const StarList& stars, const std::vector<Disc>& flat_tops);
    /// Above as they were, below as they are; each pixel two wide.
    Raster<std::uint8_t> draw(View<const float> after) const;

private:
    std::vector<Region> places_;
    std::vector<Image> before_;
    Stretch stretch_;
};

} // namespace kasane
