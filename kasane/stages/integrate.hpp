// Stage 6: master lights, made or found as they were.
//
// Takes the graded lights; leaves lights/NAME.fits with previews, and a fact a stack.
#pragma once

#include <kasane/stages/session.hpp>

namespace kasane {

/// What progress calls the time in which the lights of a stack are brought to one level.
inline constexpr const char* kLevelStage = "levels";

/// Makes the master lights of all stacks, or of those that the options name. Throws UsageError where they name one that
/// is not there.
void make_stacks(Session& session);

/// Makes none, but tries the rejections on each of them (StackReport::rejection_trials).
void try_rejections(Session& session);

} // namespace kasane
