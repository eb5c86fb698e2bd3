// What a picture for other programs says of itself, beside its pixels.
#pragma once

#include <kasane/image/image.hpp>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <string>

namespace kasane {

struct PictureNotes {
    std::string description; ///< plain text; empty: none
    std::string profile;     ///< an ICC profile (colour_profile.hpp); empty: none
};

/// A value of 0 to 1 as a whole number up to `most`, rounded; beyond that cut off, 0 where there is no data.
inline std::uint16_t whole_sample(float value, int most) {
    return static_cast<std::uint16_t>(value > 0 ? std::lround(static_cast<float>(most) * std::min(1.0f, value)) : 0);
}

} // namespace kasane
