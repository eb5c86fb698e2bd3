// What calibration masters do to the pixels of a frame: what is subtracted, and what is multiplied by. Internal to
// calibration/.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>

#include <array>
#include <memory>
#include <vector>

namespace kasane {

/// The masters of a calibration, and how they are used.
struct MasterChoice {
    MasterChoice() = default;
    explicit MasterChoice(const CalibrationSet& c)
        : dark(c.dark), bias(c.bias), second_dark(c.second_dark), flat(c.flat), dark_scale(c.dark_scale),
          second_share(c.second_share), flat_level(c.flat_level), cfa(c.cfa) {}
    bool operator==(const MasterChoice&) const = default;

    std::shared_ptr<const FrameReader> dark, bias, second_dark, flat;
    float dark_scale = 1, second_share = 0;
    std::array<float, 3> flat_level{};
    CfaPattern cfa;
};

/// What `masters` do to one plane of a rectangle, row by row: into `subtract` where there is a dark, into `multiply`
/// where there is a flat, which have room for its pixels. NaN where the flat has no light to speak of. `mosaic`: the
/// exposures have one plane, whose colours are those of the array. Throws InputError where a master cannot be read.
void take_effect(const MasterChoice& masters, const Region& region, int plane, bool mosaic, float* subtract,
                 float* multiply, std::vector<float>& scratch);

} // namespace kasane
