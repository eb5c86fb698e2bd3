// Stage 5, its first part: all lights of one group onto the grid of their reference.
//
// Takes their measures and the reference that was chosen; leaves in each light its registration and its transforms by
// plane. The optics of the rigs are solved once and remembered, as the reference is: a new night does not move what is
// finished.
#pragma once

#include <kasane/registration/align.hpp>
#include <kasane/stages/grade.hpp>

#include <map>
#include <string>

namespace kasane {

/// Registers all lights of `group`. From the ledger where known; remembers what was not.
void align_group(Session& session, Calibrations& calibrations, const ReferenceGroup& group, GradedLights& graded);

/// Whether the lights of a group (by its name) were found to be of several fields when they were registered last.
bool known_mosaic(const Session& session, const std::string& group);

/// Frames that share a lens: one camera behind one telescope, on one grid.
std::string rig_of(const Session& session, const Exposure& light);

/// What the transforms of a group depend on beside its lights and reference: the model that the recipe wants, and the
/// optics that were solved. Empty before they were.
std::string optics_identity(const Session& session, const StackPlan& plan, const std::string& reference);

} // namespace kasane
