// A camera raw file of the simulated DSLR: DNG 1.4, one uncompressed CFA mosaic with its EXIF block.
#pragma once

#include <kasane/image/image.hpp>

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>

namespace kasane::sky {

struct DngTags {
    std::string make = "Simulated", model = "Mirror box 24";
    std::string cfa = "RGGB"; ///< colours of the first 2 x 2 pixels
    double seconds = 0;
    int iso = 800;
    std::string local_time; ///< "2031:03:12 21:30:00", by the camera's clock
    std::string lens;       ///< empty: none stored
    std::optional<double> focal_length_mm;
    std::optional<double> temperature; ///< degrees Celsius, as EXIF ambient temperature
    int black = 512, white = 16383;
    int orientation = 1; ///< as EXIF numbers it
};

/// Throws OutputError.
void write_dng(const std::filesystem::path& file, View<const std::uint16_t> pixels, const DngTags& tags);

} // namespace kasane::sky
