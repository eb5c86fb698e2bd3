// Frames and mosaics of colour sensors without files.
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/io/memory_frame.hpp>

#include <memory>
#include <string>

namespace kasane::test {

/// What a sensor with this pattern makes of three planes.
inline Image mosaic_of(const Image& planes, const CfaPattern& cfa) {
    Image out(planes.width(), planes.height());
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x)
            out(x, y) = planes(x, y, cfa.colour(x, y));
    return out;
}

/// Pixels as a calibrated exposure without masters; a mosaic if a pattern is given.
inline FrameView view_of(Image pixels, const std::string& letters = {}, ColourMethod method = ColourMethod::bilinear) {
    CalibrationSet set;
    if (!letters.empty()) set.cfa = CfaPattern(letters);
    const auto source = std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(pixels)), set);
    return letters.empty() ? FrameView(source) : FrameView(source, method);
}

} // namespace kasane::test
