// All frames of a rig at once: stars, maps and lenses adjusted together.
//
// Dithers, drift, turns and the meridian carry stars across the field, so the distortion of a lens follows from the
// differences between the frames themselves, without knowing where any star is; and errors do not add up along a chain
// of frames of which each knows only the next. Least squares over all sightings, robust (bisquare); the stars are
// eliminated (Schur's complement) and what remains is solved at once where it is small, else by preconditioned
// conjugate gradients without ever being written down (B. Triggs et al., Bundle adjustment - a modern synthesis, 2000;
// S. Agarwal et al., Bundle adjustment in the large, 2010), so that time grows with the number of sightings and no
// faster.
#pragma once

#include <kasane/registration/pose.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A star as a frame shows it.
struct Sighting {
    int frame = 0, star = 0;
    Point at;            ///< pixels of the frame
    double variance = 0; ///< along one axis, square pixels
};

/// What is known of the frames, and what becomes of it.
struct Adjustment {
    struct Frame {
        Normal normal;
        Mapping mapping = Mapping::affine;
        Matrix3 map = Matrix3::Identity(); ///< from the common ideal grid (the reference's normal coordinates)
        int glass = 0;                     ///< index into `lenses`
        bool fixed = false;                ///< the reference: its map is not turned
        std::optional<CameraPose> pose{};  ///< instead of a mapping: `map` follows from it and the curvature
        bool stretched = false;            ///< of a pose: its stretch is free
        bool own_scale = true;             ///< of a pose: its scale may be any; else it is about the reference's
        /// Numbers that are free.
        int unknowns() const { return fixed ? 0 : pose ? (stretched ? 6 : 4) : freedom(mapping); }
    };
    /// Of the reference's plane, where frames have poses (pose.hpp).
    struct Curvature {
        double value = 0;
        bool free = false;
        double expected = 0, sigma = 0.3; ///< what is known of it before
    };
    struct Glass {
        LensNumbers numbers = LensNumbers::Zero();
        Optics optics = Optics::none; ///< what of it is free
    };
    std::vector<Frame> frames;
    std::vector<Glass> lenses = {{}};
    Curvature curvature{};
    std::vector<Eigen::Vector2d> stars; ///< on the common ideal grid; where to start
    std::vector<Sighting> sightings;    ///< of stars that are sighted at least twice

    /// Where the frame should show a star, pixels.
    Point predict(int frame, const Eigen::Vector2d& star) const;
    /// Squared distances of the sightings from that, in units of their variances.
    std::vector<double> residuals() const;
};

struct AdjustmentOptions {
    int rounds = 20;          ///< steps of Gauss and Newton at most
    double settled = 1e-7;    ///< of the largest step, normal coordinates
    double enough = 0.05;     ///< or of a step of everything, in units of its own error
    int most_gradients = 300; ///< conjugate gradients a step
    bool robust = true;       ///< else all sightings count alike: for a start that may be far off for some frames
};

struct AdjustmentResult {
    int rounds = 0;
    double scale = 0;      ///< of the residuals, in units of the stars' errors: 1 where nothing else is in them
    std::string hindrance; ///< why it could not be solved; empty: it was
};

/// Adjusts everything that is free, in place. The order of frames, stars and sightings does not matter but for
/// rounding.
AdjustmentResult adjust(Adjustment& problem, const AdjustmentOptions& options = {});

/// The place of a star that fits its sightings best, frames and lenses as they are (Gauss-Newton from `start`).
Eigen::Vector2d intersect(const Adjustment& problem, const std::vector<Sighting>& sightings,
                          const Eigen::Vector2d& start);

} // namespace kasane
