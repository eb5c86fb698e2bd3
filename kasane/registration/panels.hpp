// Which frames show the same field, where several fields make one picture.
#pragma once

#include <kasane/geometry/transform.hpp>

#include <vector>

namespace kasane {

/// A frame on the common grid.
struct PanelFrame {
    Transform to_frame;
    int width = 0, height = 0; ///< pixels
};

/// The panel of each frame, by number from 0 in order of their first frames. Frames are of one panel where one has the
/// other's middle near its own (within a quarter of its sides), or others between them lead from one to the other: a
/// drifting field is one panel, however far it drifts.
std::vector<int> panels_of(const std::vector<PanelFrame>& frames);
/// How many they are, from 0.
int count_panels(const std::vector<int>& panels);

} // namespace kasane
