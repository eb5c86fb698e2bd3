#include <kasane/combination/combiner.hpp>

#include <kasane/base/error.hpp>
#include <kasane/combination/pair_rejection.hpp>
#include <kasane/combination/sigma_rejection.hpp>

#include <utility>

namespace kasane {

namespace {

/// Hands a block to the method that the options name.
struct Method {
    const SampleBlock& block;
    const CombinedBlock& out;
    const StackExpectation& expectation;
    Combination combination;
    const std::vector<Comparator>& network;
    bool plain; ///< the reference in double

    void operator()(const NoRejection&) const { (*this)(SigmaRejection{0, 0, 0}); }
    void operator()(const SigmaRejection& options) const {
        const SigmaParameters p = sigma_parameters(expectation, options, combination, network);
        plain ? combine_sigma_reference(block, out, p) : combine_sigma(block, out, p);
    }
    void operator()(const PairRejection& options) const {
        (*this)(NoRejection{});
        keep_lower_of_pair(block, out, expectation, options);
    }
};

} // namespace

Combiner::Combiner(StackExpectation expectation, const CombineOptions& options)
    : expectation_(std::move(expectation)), options_(options),
      network_(sorting_network(static_cast<int>(expectation_.frames.size()))) {
    if (expectation_.frames.empty() || expectation_.frames.size() > 65000)
        throw UsageError("a stack has between 1 and 65000 frames", {}, "Split the frames into several stacks");
    require_sense(options_);
}

void Combiner::combine(const SampleBlock& block, const CombinedBlock& out) const {
    std::visit(Method{block, out, expectation_, options_.combination, network_, false}, options_.rejection);
}

void Combiner::combine_reference(const SampleBlock& block, const CombinedBlock& out) const {
    std::visit(Method{block, out, expectation_, options_.combination, network_, true}, options_.rejection);
}

} // namespace kasane
