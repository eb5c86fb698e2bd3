// Frames of many nights and rigs onto the grid of one of them.
//
// Each frame is registered onto the reference by itself; then the lens of each rig follows from all its frames together
// (rig.hpp), and each is fitted again with it. What cannot be brought onto the reference goes through the frames that
// can, nearest in time first; where a way leads through others, all frames are adjusted at once (adjustment.hpp), so
// that errors do not add up along it.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/registration/rig.hpp>

#include <map>
#include <string>
#include <vector>

namespace kasane {

/// A measured frame.
struct FrameToAlign {
    const std::vector<Star>* stars = nullptr; ///< brightest first
    int width = 0, height = 0;                ///< of the grid that they were measured on
    std::string name;                         ///< for words about it
    std::string rig;                          ///< frames of one rig share their lens
    double time = 0;                          ///< seconds; which frames are neighbours
    double focal = 0;                         ///< focal length in pixels; 0: not known
};

struct AlignOptions {
    std::map<std::string, RigOptics> known; ///< of rigs that were solved before: they are not solved again
    std::optional<Model> model;             ///< of all frames; nothing: chosen by rig
    Progress* progress = nullptr;           ///< advanced twice a frame, once where its optics are known; may be null
};

struct Alignment {
    std::vector<Outcome> frames;           ///< as they were given; `way` says how where not at once
    std::map<std::string, RigOptics> rigs; ///< of all frames that could be registered
    bool mosaic = false;                   ///< several fields; the grid is the reference's without distortion
};

/// Registers all frames onto `reference` (an index into them). The result does not depend on the number of threads.
Alignment align_frames(const std::vector<FrameToAlign>& frames, std::size_t reference, const AlignOptions& options,
                       const Workers& workers);

/// One frame onto the reference, with the optics that are known of both rigs.
Outcome align_frame(const FrameToAlign& reference, const FrameToAlign& frame, const AlignOptions& options);

} // namespace kasane
