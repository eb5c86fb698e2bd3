// Whether the sensors of a target show one sky: then all its master lights lie on one grid.
//
// Between stages 4 and 5. Leaves a choice for each sensor that does not, which reference_groups reads.
#pragma once

#include <kasane/stages/session.hpp>

namespace kasane {

/// Measures the lights of targets that several sensors took, and tries whether they come onto each other. A sensor
/// whose lights agree with each other but not with the rest gets a grid of its own. Does nothing where there is one
/// sensor a target, or where it is known already.
void settle_grids(Session& session);

} // namespace kasane
