// What the header of a light says of the comet on it: where it is on the sky, and how it moves. Part of stage 5.
//
// Programs that point a mount at a comet, or let it follow one, write that down. Keywords for it are no standard: the
// ones read here are in use by several, and a rate counts only with its unit, in brackets at the beginning of its
// comment, as the FITS standard has it (4.0, section 4.3.2).
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/io/header.hpp>
#include <kasane/io/world_coordinates.hpp>

#include <optional>
#include <string>

namespace kasane {

/// Arc seconds an hour on the sky, towards east and north.
struct SkyRate {
    double east = 0, north = 0;
};

struct CometHeader {
    std::optional<SkyPoint> at;  ///< OBJCTRA and OBJCTDEC, or OBJRA and OBJDEC
    std::optional<SkyRate> rate; ///< RARATE and DECRATE, or RA_RATE and DEC_RATE: both on the sky
    std::string wrong;           ///< why what is there cannot be used
};
CometHeader comet_in_header(const Header& header);

/// A direction after so many hours of a motion.
SkyPoint moved(const SkyPoint& from, const SkyRate& rate, double hours);

} // namespace kasane
