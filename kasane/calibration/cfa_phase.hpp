// Does the stated pattern of a colour filter array agree with the pixels?
#pragma once

#include <kasane/calibration/cfa.hpp>
#include <kasane/io/reader.hpp>

#include <string>

namespace kasane {

/// What speaks against a 2 x 2 pattern in an evenly lit mosaic (a flat, or a light's sky): the two greens must be the
/// diagonal pair that is more alike. Returns the patterns that the pixels allow ("RGGB or BGGR"); empty where the
/// stated one is allowed, or nothing can be told. Throws InputError.
std::string contradicted_phase(const FrameReader& lit, const CfaPattern& stated);

} // namespace kasane
