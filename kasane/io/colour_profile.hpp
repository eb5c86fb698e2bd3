// ICC profiles for pictures: how an editor is to understand their numbers.
#pragma once

#include <string>

namespace kasane {

enum class ToneCurve {
    screen, ///< of sRGB (IEC 61966-2-1): for what is stretched
    linear, ///< numbers go with the light
};

/// An ICC profile (version 4) for pictures of one plane or three; colours are those of sRGB. The same bytes every time.
std::string colour_profile(int planes, ToneCurve curve);

} // namespace kasane
