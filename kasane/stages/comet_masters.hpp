// The master lights of a comet: following it, without the stars; and among the stars, with and without it. Part of
// stage 6.
#pragma once

#include <kasane/integration/integrate.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/stages/comet.hpp>
#include <kasane/stages/stack_account.hpp>

#include <filesystem>
#include <optional>
#include <string>
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
/// Frames whose time is not known take part in the stars alone; one whose time is known is needed.
CometMasters integrate_comet(const Assembly& assembly, const MasterLight& among_stars, const CometSolution& comet,
                             const Canvas& canvas, const Context& context, const IntegrateOptions& options);

/// How master lights are written.
struct CometFiles {
    std::string name; ///< without what follows it, relative to the output folder
    const std::optional<WorldCoordinates>& world;
    const Canvas& canvas;
    double finer; ///< as write_master_light has it
    const Workers& workers;
};

/// Writes NAME-comet.fits and NAME-both.fits with their previews; `stars` is the master light without the comet, and
/// `report` that of its stack, which is told of them. Throws OutputError.
void write_comet_masters(const std::filesystem::path& output, const CometSolution& comet, const CometMasters& masters,
                         const MasterLight& stars, const std::vector<const Exposure*>& exposures, StackReport& report,
                         const CometFiles& files);

} // namespace kasane
