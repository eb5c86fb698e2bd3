// The master lights of a comet: following it, without the stars; and among the stars, with and without it. Part of
// stage 6.
#pragma once

#include <kasane/integration/integrate.hpp>
#include <kasane/stages/comet.hpp>
#include <kasane/stages/stack_account.hpp>

#include <optional>
#include <vector>

namespace kasane {

struct CometMasters {
    static constexpr int kPasses = 3;    ///< integrations that it takes
    MasterLight stars;                   ///< without the comet
    MasterLight comet;                   ///< where it was at CometSolution::epoch
    Image light;                         ///< of the comet alone, at the same place
    std::optional<FrameFailure> failure; ///< a light could not be read: nothing else is of use
};

/// From the frames of a stack and its master light without rejection, which shows the stars and nebulae, and the comet
/// smeared along its way. Its stars, as wide as their light is seen in a frame, are left out of the frames, which are
/// integrated along the path. Those two tell what stands still (without_moving): that is taken out of the frames, which
/// are integrated along the path again; and what that shows of the comet out of the frames as they were, for the stars.
CometMasters integrate_comet(const Assembly& assembly, const MasterLight& among_stars, const CometSolution& comet,
                             const Canvas& canvas, const Context& context, const IntegrateOptions& options);

} // namespace kasane
