// Targets that lie side by side, by the coordinates in their headers.
#pragma once

#include <kasane/pairing/pairing.hpp>

#include <vector>

namespace kasane {

/// A note for each two targets of one filter and sensor whose lights point at fields that overlap by a tenth of their
/// shorter side or more: named as one, they make one mosaic or one deeper master light. The median of each target's
/// coordinates counts; lights without them, or without focal length and pixel size, say nothing. Which way a camera is
/// turned is not known: fields are taken for discs as wide as their shorter side.
std::vector<Finding> neighbouring_targets(const std::vector<Exposure>& exposures, const Pairing& pairing);

} // namespace kasane
