// What may stand before the sky is offered as a mask, not applied. Part of stage 5.
#pragma once

#include <kasane/stages/grade.hpp>

#include <vector>

namespace kasane {

/// Where no light of a night and rig ever shows a star, along the edge of the frame: a finding with the polygon that a
/// recipe would hide. Lights that have a mask are not asked.
void offer_masks(Session& session, const std::vector<std::vector<Light>>& lights);

} // namespace kasane
