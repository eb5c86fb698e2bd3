// Keep or drop, with the reason.
#pragma once

#include <kasane/grading/measures.hpp>

#include <string>
#include <vector>

namespace kasane {

struct Verdict {
    bool keep = true;
    std::string reason; ///< why it is dropped; empty when kept
};

struct VerdictOptions {
    int least_stars = 6;           ///< fewer cannot be registered
    double least_star_share = 0.3; ///< of the median of its stack: fewer means cloud, dawn or dew
};

/// Judges the exposures of one stack together by their star counts: only those with plainly too few are dropped.
std::vector<Verdict> judge_by_stars(const std::vector<const Measures*>& stack, const VerdictOptions& options = {});

/// (signal / noise)^2 of an exposure for stars, up to a common factor: `scale` brings its fluxes to the stack's level,
/// so that scale x noise is its noise there.
double information(double scale, double noise);

/// The worth of each exposure: its information as a fraction of the stack's best. All have the same length in seconds,
/// or `seconds` says otherwise; then worth is for equal seconds. Zero information gives zero worth.
std::vector<double> worths(const std::vector<double>& informations, const std::vector<double>& seconds);

} // namespace kasane
