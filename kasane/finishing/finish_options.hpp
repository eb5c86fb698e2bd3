// What is done to master lights once they are made, as values: the recipe's [finish].
#pragma once

#include <kasane/finishing/colour.hpp>
#include <kasane/finishing/gradient.hpp>
#include <kasane/finishing/reshape.hpp>
#include <kasane/finishing/tone.hpp>

#include <optional>

namespace kasane {

struct FinishOptions {
    bool background = true; ///< gradients are taken off
    bool divide = false;    ///< divided rather than subtracted
    GradientOptions gradient;
    bool combine = true;                              ///< filters become one picture in colour, where they make one
    Palette palette;                                  ///< empty: R, G and B
    bool luminance = true;                            ///< L, where there is one, gives the brightness
    std::optional<WhiteChoice> white = WhiteChoice{}; ///< nothing: colours stay as they are
    Reshape reshape;
    ToneOptions tone;
    bool operator==(const FinishOptions&) const = default;
};

} // namespace kasane
