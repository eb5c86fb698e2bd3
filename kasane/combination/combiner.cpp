#include <kasane/combination/combiner.hpp>

#include <kasane/base/error.hpp>
#include <kasane/combination/methods.hpp>
#include <kasane/combination/pair_rejection.hpp>
#include <kasane/combination/plain_combination.hpp>

#include <utility>

namespace kasane {

namespace {

/// Hands a block to the method that the options name.
struct Method {
    const SampleBlock& block;
    const CombinedBlock& out;
    StackParameters p;
    const StackExpectation& expectation;
    const CombineOptions& options;

    void operator()(const NoRejection&) const { combine_sigma(block, out, p, SigmaRejection{0, 0, 0}); }
    void operator()(const SigmaRejection& o) const { combine_sigma(block, out, p, o); }
    void operator()(const PairRejection&) const {
        (*this)(NoRejection{});
        keep_lower_of_pair(block, out, expectation, options);
    }
    void operator()(const WinsorizedRejection& o) const { combine_winsorized(block, out, p, o); }
    void operator()(const NoiseRejection& o) const { combine_by_noise(block, out, p, o); }
    void operator()(const PercentileRejection& o) const { combine_percentile(block, out, p, o); }
    void operator()(const MinMaxRejection& o) const { combine_min_max(block, out, p, o); }
    void operator()(const EsdRejection& o) const { combine_esd(block, out, p, o); }
    void operator()(const LineRejection& o) const { combine_by_line(block, out, p, o); }
};

} // namespace

Combiner::Combiner(StackExpectation expectation, const CombineOptions& options)
    : expectation_(std::move(expectation)), options_(options),
      network_(sorting_network(static_cast<int>(expectation_.frames.size()))) {
    if (expectation_.frames.empty() || expectation_.frames.size() > 65000)
        throw UsageError("a stack has between 1 and 65000 frames", {}, "Split the frames into several stacks");
    require_sense(options_);
    table_ = method_table(options_.rejection, static_cast<int>(expectation_.frames.size()));
}

StackParameters Combiner::parameters() const {
    return {expectation_.frames.data(),
            static_cast<int>(expectation_.frames.size()),
            expectation_.level,
            expectation_.noise_known,
            options_.combination,
            network_.data(),
            network_.size(),
            table_.data()};
}

void Combiner::combine(const SampleBlock& block, const CombinedBlock& out) const {
    std::visit(Method{block, out, parameters(), expectation_, options_}, options_.rejection);
}

void Combiner::combine_reference(const SampleBlock& block, const CombinedBlock& out) const {
    combine_plainly(block, out, parameters(), options_.rejection);
    if (std::holds_alternative<PairRejection>(options_.rejection))
        keep_lower_of_pair(block, out, expectation_, options_);
}

} // namespace kasane
