// What a combination costs in noise: what it makes of normal noise without outliers, such as the frames of a stack
// have.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/combination/combiner.hpp>

namespace kasane {

struct Efficiency {
    /// Relative growth of the variance against the weighted mean of all samples. The difference of an unbiased estimate
    /// from the best one is independent of it (R. Fisher, Proc. Camb. Phil. Soc. 22, 1925), so that its variance over
    /// that of the mean is the loss.
    double loss = 0;
    double noise_factor = 1; ///< standard deviation of the result over that of the weighted mean
};

/// By simulation, always with the same random numbers: a loss of 1 % is known to about a tenth of itself.
Efficiency measure_efficiency(const StackExpectation& expectation, const CombineOptions& options);

struct RejectionCandidate {
    Rejection rejection;
    double loss = 0; ///< as measure_efficiency has it, of a mean
};

/// The methods that can be thought of for so many lights, each with limits as narrow as a loss of `most_loss` allows
/// (where it has any), the quickest first. The last rejects nothing. The same for any threads.
std::vector<RejectionCandidate> rejection_candidates(const StackExpectation& expectation, double most_loss,
                                                     const Workers& workers);

} // namespace kasane
