// A look at one image.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/image/image.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/look.hpp>
#include <kasane/stars/streaks.hpp>

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

namespace kasane {

struct ShowReport {
    std::string file, preview;
    Exposure exposure;
    int combined = 1; ///< frames in a master
    std::optional<double>
        stated_noise; ///< a master light's own account of its background noise, as without resampling; ADU
    struct Plane {
        double minimum = 0, median = 0, mean = 0, maximum = 0; ///< ADU
        double background = 0, noise = 0;                      ///< ADU, robust
        double no_data = 0;                                    ///< share of pixels
    };
    std::vector<Plane> planes;
    int stars = 0;
    double fwhm = 0, eccentricity = 0; ///< pixels; 0 when nothing could be fitted
    std::vector<Star> found;           ///< those that were measured one by one
    std::vector<Streak> streaks;
};

/// Reads the whole image and measures it as it stands (not calibrated). Throws InputError.
ShowReport examine(const FrameReader& reader, const FrameSummary& summary);
std::string show_text(const ShowReport& report);
/// What calibration did to a light of a project.
std::string calibration_text(const CalibrationLook& look);
nlohmann::json to_json(const CalibrationLook& look);
nlohmann::json to_json(const ShowReport& report);

/// A rendering in colour with the stars that were found drawn as rings of their shape, saturated ones as squares, and
/// streaks as dashed lines.
Raster<std::uint8_t> mark_detections(const Raster<std::uint8_t>& picture, const ShowReport& report);

/// A stretched 8-bit rendering: grey, or RGB for three planes.
Raster<std::uint8_t> render_preview(const FrameReader& reader);

} // namespace kasane
