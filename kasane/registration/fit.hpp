// The transform between two frames that fits pairs of stars best, of a model that is asked for or chosen.
//
// Weighted by the stars' own errors and robust (bisquare); damped Gauss-Newton on the derivatives of model.hpp. The
// choice is by cross-validation: the simplest model that foretells stars it has not seen as well as any other, within
// 2.5 errors of that comparison (T. Hastie, R. Tibshirani and J. Friedman, The Elements of Statistical Learning, 2009,
// section 7.10).
#pragma once

#include <kasane/registration/model.hpp>
#include <kasane/registration/star_pair.hpp>

#include <optional>
#include <vector>

namespace kasane {

/// Whose glass a lens is.
enum class Glass : std::uint8_t {
    same,      ///< both frames were taken through one lens, which is fitted to both
    frame,     ///< the reference is ideal, or its lens is known
    reference, ///< the frame is ideal, or its lens is known
    both,      ///< each has its own
};

/// What a fit starts from and may turn.
struct PairFit {
    Normal reference, frame; ///< the grids
    Mapping mapping = Mapping::affine;
    Optics optics = Optics::none;
    Glass glass = Glass::same;
    LensNumbers reference_lens = LensNumbers::Zero(), frame_lens = LensNumbers::Zero(); ///< known, or where to start
    Matrix3 map = Matrix3::Identity(); ///< likewise; between the ideal images, in normal coordinates

    Transform transform() const;
    int free() const { return freedom(mapping) + freedom(optics) * (glass == Glass::both ? 2 : 1); }
};

struct FitOptions {
    std::vector<char> use; ///< the pairs that are fitted to, one flag each; empty: all
    int rounds = 30;       ///< at most
};

/// Fits to the pairs. Nothing where they do not determine it.
std::optional<PairFit> fit_pair(const StarPair& pair, const std::vector<StarMatch>& matches, const PairFit& start,
                                const FitOptions& options = {});

/// Squared distances of the pairs from where a transform puts them, in units of their variances (two axes: 2 is
/// expected of a good one).
std::vector<double> normal_residuals(const StarPair& pair, const std::vector<StarMatch>& matches,
                                     const Transform& to_frame);

/// Of candidates, simplest first, the first that is as good as the best: `losses` hold those of the same unseen stars
/// for each. Among several one seems better by chance, so what is gained must be 2.5 errors of it, and more than the
/// share `worth` of the loss. One that is simpler than that and does better than it is preferred.
std::size_t simplest_as_good(const std::vector<std::vector<double>>& losses, double worth);

/// The best of `candidates`, simplest first, by cross-validation, fitted to all pairs; nothing where none can be
/// fitted.
std::optional<PairFit> choose_model(const StarPair& pair, const std::vector<StarMatch>& matches,
                                    const std::vector<PairFit>& candidates);

} // namespace kasane
