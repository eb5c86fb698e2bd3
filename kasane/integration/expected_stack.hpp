// What the frames of a stack weigh, and what is expected of their samples.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/combination/expectation.hpp>
#include <kasane/integration/noise_factors.hpp>
#include <kasane/integration/stack.hpp>

#include <vector>

namespace kasane {

/// Of one plane.
struct ExpectedStack {
    std::vector<double> weights; ///< sum 1
    double noise = 0;            ///< of the mean, ADU, as without resampling
    StackExpectation expectation;
};

/// `worth_exponent` as in IntegrateOptions. Throws DataError where no frame has any weight.
ExpectedStack expect_stack(const std::vector<StackFrame>& frames, std::size_t plane, const StackNoiseFactors& noise,
                           const Canvas& canvas, double level, double worth_exponent);

/// What is expected of the frames that show the usual place of the canvas: of places spread over it that any frame
/// shows, the one with the median number. All frames, where that are fewer than three.
StackExpectation expect_usual_place(const StackExpectation& expectation, const std::vector<StackFrame>& frames,
                                    std::size_t plane, const Canvas& canvas);

/// The backgrounds that planes are combined at, ADU.
std::vector<double> levels_of(const std::vector<Combiner>& combiners);

} // namespace kasane
