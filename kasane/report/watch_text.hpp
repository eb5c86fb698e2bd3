// A night that is watched, for a terminal: lights as they arrive, and how the master lights grow.
#pragma once

#include <kasane/project/watch.hpp>

#include <string>
#include <vector>

namespace kasane {

/// A line for each light that is new or judged otherwise, those beyond `most` counted, then new findings and what keeps
/// the folder from being looked at. Empty: nothing is new.
std::string watch_lines(const WatchNews& news, int columns, std::size_t most = 12);

/// How the master lights stand, as a table.
std::string watch_table(const std::vector<GrowingMaster>& masters, int columns);

/// A growing master stretched to be looked at: one plane or three.
Raster<std::uint8_t> growing_picture(const Image& picture);

/// A picture as characters of half a cell in height, at most `columns` wide and `rows` high. `all_colours`: the
/// terminal shows 24 bits of colour; else 24 greys of the usual 256 colours.
std::string terminal_picture(const Image& picture, int columns, int rows, bool all_colours);

} // namespace kasane
