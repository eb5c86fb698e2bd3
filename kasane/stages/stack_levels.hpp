// The levels of stacks: fitted once for lights, places and settings, whatever else of the integration is tried. Part of
// stage 6.
#pragma once

#include <kasane/normalization/levels.hpp>
#include <kasane/stages/session.hpp>

#include <cstddef>
#include <string>
#include <vector>

namespace kasane {

/// The levels of a plane of a stack (normalization/levels.hpp), fitted anew only where they are not known yet.
/// `sources` are what the measures of `inputs` are keyed by.
StackLevels levels_of_stack(Session& session, const std::vector<LevelInput>& inputs,
                            const std::vector<std::string>& sources, std::size_t plane, const Canvas& canvas,
                            const LevelOptions& options);

} // namespace kasane
