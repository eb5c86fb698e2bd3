// What is done to master lights once they are made, as values: the recipe's [finish].
#pragma once

#include <kasane/finishing/colour.hpp>
#include <kasane/finishing/gradient.hpp>
#include <kasane/finishing/reshape.hpp>
#include <kasane/finishing/tone.hpp>

#include <filesystem>
#include <optional>

namespace kasane {

struct FinishOptions {
    bool background = true; ///< gradients are taken off
    bool divide = false;    ///< divided rather than subtracted
    GradientOptions gradient;
    /// FWHM of the stars after sharpening, over that before: kSharpest to kLeastSharp; 0: not sharpened
    double sharpen = 0;
    static constexpr double kSharpest = 0.6, kLeastSharp = 0.95;
    bool combine = true;                              ///< filters become one picture in colour, where they make one
    Palette palette;                                  ///< empty: R, G and B
    bool luminance = true;                            ///< L, where there is one, gives the brightness
    std::optional<WhiteChoice> white = WhiteChoice{}; ///< nothing: colours stay as they are
    std::filesystem::path onto; ///< an image whose grid all are brought onto first; empty: they stay on theirs
    double covered = 0;         ///< cropped to the largest rectangle that has so much of the full coverage; 0: not
    Reshape reshape;
    ToneOptions tone;
    bool operator==(const FinishOptions&) const = default;
};

/// "x y width height" or "coverage share". Throws UsageError for anything else.
void set_crop(FinishOptions& options, const std::string& text);

} // namespace kasane
