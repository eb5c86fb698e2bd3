// PairRejection at work. Used by the combiner.
#pragma once

#include <kasane/combination/combiner.hpp>

namespace kasane {

/// After both samples were combined: where they disagree beyond their noise the lower one takes the place of both.
void keep_lower_of_pair(const SampleBlock& block, const CombinedBlock& out, const StackExpectation& expectation,
                        const CombineOptions& options);

} // namespace kasane
