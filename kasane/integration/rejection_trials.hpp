// Which rejection a stack is best served with: all that can be thought of are tried on a sample of its own pixels, to
// which outliers are added whose light is known.
//
// What counts is what of that light is left, and what more than usual is taken from the cores of stars, among the
// methods that lose less than a hundredth of the efficiency where nothing is to be rejected. Places that fewer than
// three frames show do not count: two do not tell which of them is wrong. Of a mosaic, what the frames of its usual
// place can tell counts.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/integration/integrate.hpp>

#include <vector>

namespace kasane {

/// One plane of a stack.
struct TrialStack {
    const std::vector<StackFrame>& frames;
    const Canvas& canvas;
    const StackExpectation& expectation;
    const StackExpectation& usual; ///< of the frames that show the usual place (expected_stack.hpp)
    std::size_t plane = 0;
};

/// Losses that are put up with: of efficiency, and of samples in the cores of stars beyond what other methods take.
inline constexpr double kMostLoss = 0.01, kMostInCores = 0.01;

/// Tries the candidates (efficiency.hpp), and the rejection that the options fix, if any; of more than 300 frames on as
/// many that are spread over all. The same for any threads.
RejectionComparison compare_rejections(const TrialStack& stack, const IntegrateOptions& options,
                                       const Context& context);

} // namespace kasane
