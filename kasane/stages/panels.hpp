// Several fields of one target: which of them belong together, and which light shows which.
//
// settle_panels runs between stages 4 and 5 and leaves a choice for each target whose name says that it is a panel of
// another and whose stars do not, which pairing reads. find_panels belongs to stage 5.
#pragma once

#include <kasane/stages/grade.hpp>

namespace kasane {

/// Measures some lights of targets whose names make them panels of one, and tries whether they come onto each other. A
/// target that does not gets master lights of its own, and what was paired is paired again. Does nothing where it is
/// known already.
void settle_panels(Session& session);

/// What is told of panels that do not belong together.
std::vector<Finding> panel_findings(const Session& session);

/// Sets the panel of every light that is registered, and what the panels are called: as their lights' targets are, else
/// by number in the order in which one reads.
void find_panels(GradedLights& graded);

/// The panel in the middle of all; -1 where there are none.
int middle_panel(const GradedLights& graded);

} // namespace kasane
