// Which samples of a pixel do not count: one options struct a method, and the choice among them as a value.
//
// A new method is a struct here, a place in the variant, and one file that does it (sigma_rejection.cpp is the
// example); the combiner, the choice by number of frames, the ledger's keys and the words of headers follow from the
// variant.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace kasane {

/// Every sample counts.
struct NoRejection {
    /// What is wrong with the options, in words; empty: nothing. So for all options here.
    std::string check() const { return {}; }
    bool operator==(const NoRejection&) const = default;
};

/// Iterative sigma rejection that begins at the median and the median absolute deviation (robust against up to half of
/// the samples; F. Hampel, J. Am. Stat. Assoc. 69, 1974) and goes on with the weighted mean and the standard deviation
/// of the survivors, corrected for the clipped tails. Three samples or more; of fewer all count.
struct SigmaRejection {
    float low = 3.0f;  ///< in units of sigma; <= 0: nothing is rejected on this side
    float high = 3.0f; ///< the same above
    int iterations = 4;
    std::string check() const;
    bool operator==(const SigmaRejection&) const = default;
};

/// Of two samples that disagree beyond their noise, which must be known, the lower counts: particles and stars only
/// add. Of more than two all count.
struct PairRejection {
    float sigmas = 6.0f; ///< of their difference
    std::string check() const;
    bool operator==(const PairRejection&) const = default;
};

using Rejection = std::variant<NoRejection, SigmaRejection, PairRejection>;

std::string check(const Rejection& rejection);
/// "none", "sigma", "pair".
std::string_view rejection_name(const Rejection& rejection);
/// In words, for headers and reasons: "rejecting beyond 4 sigma below and 3 above". Empty where nothing is rejected.
std::string rejection_text(const Rejection& rejection);

/// Its options by name, as numbers in words: {"low", "3"}, ...
std::vector<std::pair<std::string, std::string>> rejection_settings(const Rejection& rejection);

/// How the samples that count become one.
enum class Combination {
    mean,   ///< weighted
    median, ///< weights do not matter; the mean of the middle two of an even number
};
/// "mean", "median".
std::string_view combination_name(Combination combination);

/// Both together.
struct CombineOptions {
    Rejection rejection = SigmaRejection{};
    Combination combination = Combination::mean;
    std::string check() const { return kasane::check(rejection); }
    bool operator==(const CombineOptions&) const = default;
};

} // namespace kasane
