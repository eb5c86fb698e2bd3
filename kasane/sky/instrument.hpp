// The camera and the glass in front of it.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace kasane::sky {

struct DustShadow {
    double x = 0, y = 0; ///< pixels
    double radius = 20;  ///< outer radius, pixels
    double depth = 0.06; ///< share of light lost in the ring
};

struct Instrument {
    int width = 900;
    int height = 600;
    std::uint64_t seed = 7;
    std::string camera = "Simulated mono camera";
    std::string telescope = "Simulated 480 mm refractor";
    double focal_length_mm = 480;
    double pixel_um = 3.76;
    std::string cfa; ///< "" for mono, else the colours of the first 2 x 2 pixels, row by row: "RGGB"

    double moffat_beta = 3.2;
    double distortion = 0;    ///< relative radial shift at the corner, growing with the cube of the radius
    std::optional<Lens> lens; ///< instead of it, all that a lens may do

    double vignetting = 0.22; ///< share of light lost in the corner
    std::vector<DustShadow> dust;
    double response_spread = 0.004; ///< pixel to pixel sensitivity, standard deviation

    double gain = 0.8;         ///< electrons per ADU
    double offset = 500;       ///< ADU
    double offset_pattern = 3; ///< ADU, standard deviation of the fixed column and row pattern together
    double read_noise = 2.2;   ///< electrons
    double dark_rate = 0.02;   ///< electrons per second and pixel at reference_temperature; doubles every 6 degrees
    double reference_temperature = -10;
    double glow = 0.15;        ///< amplifier glow in one corner, electrons per second at its brightest
    double hot_share = 0.0012; ///< share of hot pixels; their rates reach from 0.5 to 200 electrons per second
    double dead_share = 0.0001;
    double saturation_adu = 65535;
};

/// The fixed maps of one instrument. All are of its size.
struct InstrumentMaps {
    Image illumination; ///< throughput of glass and pixels, mean about 1 in the middle
    Image offset;       ///< ADU
    Image dark;         ///< electrons per second at the reference temperature
    Mask defects;       ///< 1 hot, 2 dead
};

InstrumentMaps make_maps(const Instrument& instrument);

/// The same maps after a night: the dust has moved.
InstrumentMaps make_maps(const Instrument& instrument, const std::vector<DustShadow>& dust);

} // namespace kasane::sky
