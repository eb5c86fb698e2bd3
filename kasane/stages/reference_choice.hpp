// Which light gives the grid of a group, and why. Part of stage 5.
#pragma once

#include <kasane/stages/grade.hpp>

#include <functional>
#include <string>

namespace kasane {

/// Takes the image from outside, the light that a person wants, the remembered one if it is still there, else the best
/// (registration/reference.hpp). Fills in what GradedLights tells of the reference, and its canvas; nothing where no
/// light could be measured. What it returns remembers the choice and its reasons in the ledger: to be called when it
/// stands, so that a run that is cut off before goes the same way again.
[[nodiscard]] std::function<void()> choose_reference(Session& session, const ReferenceGroup& group,
                                                     const std::string& remembered, GradedLights& graded);

/// Whether the pixels chose it, and may choose again.
bool reference_is_free(const Session& session, const ReferenceGroup& group);

/// Of a mosaic whose reference is free: the best light of a panel takes its place. Lights must know their panels.
[[nodiscard]] std::function<void()> choose_reference_of_panel(Session& session, const ReferenceGroup& group, int panel,
                                                              GradedLights& graded);

} // namespace kasane
