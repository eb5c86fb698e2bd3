// Frames of several overlapping fields on one grid.
//
// Frames that agree at once make clusters; clusters are linked by the stars that their edges share, each through those
// that are linked already. Then all frames are adjusted together (adjustment.hpp) as poses of one turned camera with
// the lens of its rig (pose.hpp), so that the few stars at an edge need not settle more than what can differ, and no
// error adds up from field to field. The common grid is the reference's plane without its distortion: tangent to the
// sky where the reference points (gnomonic), as far beyond its edges as the frames reach; of more than 40 degrees its
// stereographic picture, which stretches the far sides less.
#pragma once

#include <kasane/registration/align.hpp>

#include <optional>
#include <vector>

namespace kasane {

struct MosaicProblem {
    const std::vector<FrameToAlign>& frames;
    std::size_t reference = 0;
    std::vector<Outcome> direct; ///< of the frames that came onto the reference at once
    std::optional<Model> model;  ///< of a person: only its lens is asked for
};

/// All frames on the common grid, or nothing where they do not show several fields. Frames that belong to nothing that
/// is linked to the reference have no result.
std::optional<Alignment> align_mosaic(const MosaicProblem& problem, const Workers& workers);

} // namespace kasane
