// Stage 6: master lights, made or found as they were.
//
// Takes the graded lights; leaves lights/NAME.fits with previews, and a fact a stack.
#pragma once

#include <kasane/stages/session.hpp>

namespace kasane {

/// Makes the master lights of all stacks.
void make_stacks(Session& session);

} // namespace kasane
