// All methods once more, one pixel at a time, in double and without vectors: what tests hold the kernels against.
#pragma once

#include <kasane/combination/methods.hpp>

namespace kasane {

void combine_plainly(const SampleBlock& block, const CombinedBlock& out, const StackParameters& parameters,
                     const Rejection& rejection);

} // namespace kasane
