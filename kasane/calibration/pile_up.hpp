// Where the pixels of an exposure pile up: the level above which they tell no more light, as the exposure shows it.
//
// Why: headers seldom say it, a camera of 12 or 14 bits fills files of 16, and a sensor may be full before its
// converter is.
#pragma once

#include <kasane/io/reader.hpp>

namespace kasane {

/// Raw ADU.
struct PileUp {
    float top = 0;      ///< the highest value that was seen
    bool piled = false; ///< many pixels lie within 3 % of it, and few below
    bool operator==(const PileUp&) const = default;
};

/// Looks at every eighth row of all planes. Piled: at least 24 of the pixels looked at lie within 3 % of the highest,
/// more than twice as many as in the 6 % below, and less than half of all pixels are nearly as bright; a smooth summit
/// has half as many above as below. Throws InputError.
PileUp find_pile_up(const FrameReader& raw);

} // namespace kasane
