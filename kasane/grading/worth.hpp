// What exposures add, and what keeping or dropping them does to the master light.
//
// A weighted mean with inverse-variance weights has the sum of its members' (signal / noise)^2: each exposure's share
// of that sum is its worth, and the sum of worths times seconds is the effective exposure. (Inverse-variance weighting:
// W. Cochran, Suppl. J. R. Stat. Soc. 4, 1937.)
#pragma once

#include <cstddef>
#include <optional>
#include <vector>

namespace kasane {

/// (signal / noise)^2 of an exposure for stars, up to a common factor: `scale` brings its fluxes to the stack's level,
/// so that scale x noise is its noise there.
double information(double scale, double noise);

/// The worth of each exposure: its information a second as a fraction of the stack's best. Where no seconds are known
/// (0), information itself counts; where those of some are, the worth of the others is not known (NaN). Zero
/// information gives zero worth.
std::vector<double> worths(const std::vector<double>& informations, const std::vector<double>& seconds);

/// An exposure, as far as the cost of dropping it is concerned.
struct Contribution {
    double information = 0; ///< 0: cannot be used at all
    double seconds = 0;
    double worth = 0;
    double fwhm = 0; ///< pixels; 0 unknown: it counts for the noise alone
};

/// Of exposures (with `measures`, a `verdict` and a `contribution`) the one that is kept and has the highest worth, the
/// first of equals; nothing where none that was measured is kept.
template <class Exposures>
std::optional<std::size_t> best_kept(const Exposures& exposures) {
    std::optional<std::size_t> best;
    for (std::size_t i = 0; i < exposures.size(); ++i) {
        if (!exposures[i].measures || !exposures[i].verdict.keep) continue;
        if (!best || exposures[i].contribution.worth > exposures[*best].contribution.worth) best = i;
    }
    return best;
}

/// What the kept exposures will make.
struct Prediction {
    int frames = 0;
    double seconds = 0, effective_seconds = 0;
    double noise = 0; ///< of the master's background, in ADU of the stack's level; 0: nothing is kept
    double fwhm = 0;  ///< of its stars, pixels; 0 unknown
};

/// Noise is 1 / sqrt(sum of information). The stars of the master are the weighted sum of those of its members: its
/// FWHM is that of the sum of Moffat profiles (exponent 3) of their widths.
Prediction predict(const std::vector<Contribution>& all, const std::vector<bool>& kept);

/// Noise and FWHM of a mean with other weights than the informations, one an exposure (any scale), of those kept. Noise
/// is that of independent noise of variance 1 / information each.
Prediction predict_with_weights(const std::vector<Contribution>& all, const std::vector<double>& weights);

/// Predictions as the kept exposures are dropped one by one in the given order (indices into `all`, the first to go
/// first); the first entry has all of them. Exposures that are not kept do not take part.
std::vector<Prediction> cost_curve(const std::vector<Contribution>& all, const std::vector<bool>& kept,
                                   const std::vector<std::size_t>& order);

} // namespace kasane
