// The whole frame in small, in eight bits that any later stretch can be made from.
#pragma once

#include <kasane/image/image.hpp>

#include <array>
#include <cstdint>
#include <optional>

namespace kasane {

/// How values became bytes: byte = 255 (asinh((v - zero) / softness) - low) / (high - low), by plane, clipped. The
/// inverse hyperbolic sine (R. Lupton et al., PASP 116, 2004) is linear in the noise and logarithmic in the stars, so
/// that nothing visible is lost.
struct PreviewScale {
    int factor = 1; ///< pixels of the frame along the side of a pixel of the preview
    int planes = 0; ///< 0: no preview
    std::array<float, 3> zero = {0, 0, 0}, softness = {1, 1, 1}; ///< ADU
    std::array<float, 3> low = {0, 0, 0}, high = {1, 1, 1};

    std::uint8_t encode(int plane, float value) const;
    float decode(int plane, std::uint8_t byte) const;
};

/// The scale for an image that was averaged down by `factor`, from its own sky and noise.
PreviewScale choose_preview_scale(const Image& small, int factor);

/// The bytes; no data is black.
Raster<std::uint8_t> encode_preview(const Image& small, const PreviewScale& scale);

/// An exposure, or a part of one, for the screen.
struct FramePicture {
    Raster<std::uint8_t> pixels;
    PreviewScale scale; ///< what the bytes mean
};

/// Of what was averaged down by `factor`, by `scale`; where there is none by one of its own.
FramePicture picture_of(const Image& small, int factor, const std::optional<PreviewScale>& scale = {});

} // namespace kasane
