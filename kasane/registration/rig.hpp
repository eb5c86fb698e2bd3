// The lens of a rig: chosen and solved from all frames that it took, so that each single frame needs few numbers.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/registration/adjustment.hpp>
#include <kasane/registration/register.hpp>

#include <memory>
#include <string>
#include <vector>

namespace kasane {

/// What is known of a rig.
struct RigOptics {
    Model model;                      ///< what lies between its frames, and what its lens was allowed
    std::shared_ptr<const Lens> lens; ///< null: none that shows
    int frames = 0, stars = 0;        ///< it rests on
    double before = 0, after = 0;     ///< residual of unseen stars by the simplest model and by this, pixels
    double expected = 0;              ///< the same by the stars' own errors alone
    double corner = 0;                ///< distortion at the corner, relative: what it moves over the half diagonal
    /// "affine with radial distortion 0.8 % at the corner (residual 1.90 -> 0.06 px)".
    std::string text() const;
};

/// A frame of the rig and the pairs that it shares with the reference.
struct RigFrame {
    const std::vector<Star>* stars = nullptr;
    Normal normal;
    Transform to_frame; ///< a first one
    const std::vector<StarMatch>* matches = nullptr;
};

struct RigProblem {
    const std::vector<Star>* reference = nullptr;
    Normal reference_normal;
    bool own = true;                            ///< the reference is of this rig; else its lens is known
    std::shared_ptr<const Lens> reference_lens; ///< of another rig; null: none
    std::vector<RigFrame> frames;
    std::optional<Model> model; ///< as a person wants it; nothing: chosen
};

/// What a lens moves at the corner over the half diagonal, the most of eight directions; 0 for none.
double corner_distortion(const Lens* lens, const Normal& frame);

/// The simplest model that foretells stars it has not seen as well as any other (held out: every fifth, from all
/// frames), and its lens. Where pairs by themselves show no order in what an affine map leaves, that is it.
RigOptics solve_rig(const RigProblem& problem, const Workers& workers);

} // namespace kasane
