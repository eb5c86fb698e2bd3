// How much of a dark a light really holds: measured on the light's own hot pixels.
#pragma once

#include <kasane/calibration/cfa.hpp>
#include <kasane/io/reader.hpp>

#include <string>

namespace kasane {

struct DarkFitOptions {
    CfaPattern cfa = {};
    double expected = 1;       ///< factor by exposure and temperature
    double most_deviation = 2; ///< the factor stays between expected / this and expected * this
    double hot_sigmas = 8;     ///< structure of the dark that counts, in units of its own scatter
    double saturation = 50000; ///< ADU of the light; brighter pixels do not count
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

struct DarkFit {
    double factor = 1;       ///< of what the dark holds above the bias
    double sigma = 0;        ///< its error; 0: nothing was measured and the expected factor stands
    double second_share = 0; ///< of the second dark in the mixture, 0..1
    int pixels = 0;          ///< that took part
    bool measured() const { return sigma > 0; }
};

/// Fits the light's local contrast (each pixel less its neighbours of the same colour in the row) to the dark's, by
/// least squares with Huber's weights (P. Huber, Ann. Math. Stat. 35, 1964), over the pixels where the dark has
/// structure: stars and nebula have none in common with it. `bias` may be null where the factor is known to be near 1:
/// the contrast of the dark itself serves. Leaves the expected factor where fewer than 50 pixels take part, or where
/// the measured one agrees with it within two of its errors. Reads a tenth of the rows. Throws InputError.
DarkFit fit_dark_factor(const FrameReader& raw, const FrameReader& dark, const FrameReader* bias,
                        const DarkFitOptions& options = {});

/// The share of `second`, a dark of another temperature, that leaves least structure in the light: 0 unless that is
/// measurably better (three of its errors) than `dark` alone.
DarkFit fit_dark_mixture(const FrameReader& raw, const FrameReader& dark, const FrameReader& second,
                         const DarkFitOptions& options = {});

} // namespace kasane
