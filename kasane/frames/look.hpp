// A look at the pixels, for what the header does not say: levels, hot pixels, stars, the shape of the illumination; and
// the role that they speak for.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/io/reader.hpp>

#include <optional>
#include <string>

namespace kasane {

struct LookOptions {
    int windows = 16;      ///< of 64 x 64 pixels, spread over the frame; 0: all, up to 1500
    double full_scale = 0; ///< level at which pixels saturate, file units; 0: by bit depth and what is seen
};

/// What a sample of the pixels shows. Levels in the file's units. Windows of 64 x 64 pixels, each with the medians of
/// its four 2 x 2 phases removed, so that mono and CFA frames are judged alike.
struct Look {
    int windows = 0;
    double level = 0;        ///< median of the windows' medians
    double noise = 0;        ///< median of the windows' noise (MAD of the residuals)
    double shape_low = 0;    ///< 5 % quantile of the windows' medians
    double shape_high = 0;   ///< 95 % quantile
    double falloff = 0;      ///< level in the middle less that in the corners
    double full_scale = 0;   ///< as told, else as far as this frame shows it
    double highest = 0;      ///< highest value seen
    double clipped = 0;      ///< share of pixels at the highest value seen, where that is many
    double phase_spread = 0; ///< range of the four phases' mean levels
    double lone = 0;         ///< share of pixels above 6 sigma that their neighbours know nothing of: hot pixels
    double lone_excess = 0;  ///< mean excess of those, in units of the noise
    double stars = 0;        ///< peaks that their neighbours share, per megapixel looked at
    double star_peak = 0;    ///< height of the brightest few of those
};

/// Throws InputError if the file cannot be read.
Look look_at(const FrameReader& reader, const LookOptions& options = {});

/// What is known of the other frames of the same sensor.
struct LookContext {
    std::optional<double> highest; ///< highest value of any: tells 12 and 14-bit cameras from others
    std::optional<double> floor;   ///< lowest level among them: that of bias and darks where they are there
    std::optional<double> seconds; ///< exposure time of this one
    std::optional<double> darkest_starry, brightest_starry; ///< levels of the frames that show stars
};

/// Whether there are more peaks with the width of stars than tracks of particles make.
bool shows_stars(const Look& look);

struct RoleGuess {
    Role role = Role::unknown;
    double confidence = 0; ///< 0..1
    std::string reason;    ///< "pixels: 312 stars per megapixel above a dark sky"
};

/// The full scale of a sensor whose frames reach `highest`: 1, 255, 4095, 16383, 65535 or that value.
double full_scale_above(double highest);

/// Adds a frame of the sensor to what is known of them all.
void add_to_context(LookContext& context, const Look& look);

/// The role that the pixels speak for: bias, dark, flat (sky flats with stars too) or light. The thresholds were set on
/// simulated frames; docs/gathering.md tells how often they err on others.
RoleGuess guess_role(const Look& look, const LookContext& context = {});

} // namespace kasane
