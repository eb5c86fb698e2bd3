// How far, and which way, the stars of a frame are drawn out. Internal to stars/.
#pragma once

#include <kasane/stars/detection.hpp>
#include <kasane/stars/psf_fit.hpp>

#include <vector>

namespace kasane {

/// Eccentricity of the frame, and its direction. The squares of the stars' own distortions are too great by the noise
/// of the fits, which is taken off: of what the stars have in common, and of what differs from star to star (tilt,
/// coma), each where it is more than chance.
void describe_elongation(const std::vector<const PsfFit*>& fits, StarList& list);

} // namespace kasane
