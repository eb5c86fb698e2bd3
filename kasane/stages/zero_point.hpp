// How bright a star is that gives one ADU, where the headers of lights say so. Part of stage 6.
#pragma once

#include <kasane/stages/assemble.hpp>

#include <optional>

namespace kasane {

/// Magnitude of a star whose pixels add up to 1 ADU in a master light of the canvas: median of what its lights say of
/// themselves (MAGZERO, MAGZPT, MAGZP, PHOTZP, ZEROPNT: of 1 ADU in all of their exposure), each brought to the level
/// of the stack. Nothing where none does; lights of colour filter arrays, and of other pixels than the grid's, do not
/// count.
std::optional<double> zero_point_of(const Session& session, const Assembly& assembly, const Canvas& canvas);

} // namespace kasane
