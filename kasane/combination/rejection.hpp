// Which samples of a pixel do not count: one options struct a method, and the choice among them as a value.
//
// A new method is a struct here, a place in the variant, its kernel (sigma_rejection_kernel.cpp is the example) and its
// plain reference (plain_combination.cpp); the combiner, the choice, the recipe, the ledger's keys and the words of
// headers follow from the variant. All limits of the two sides are told apart; where one is 0 or less nothing is
// rejected on that side.
//
// Deviations are in units of each frame's own expected noise (StackExpectation), unless a method says otherwise. When
// to use what: docs/integration.md.
#pragma once

#include <optional>
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

/// As SigmaRejection, with a mean and a spread from samples that are drawn to within 1.5 sigma of the mean instead of
/// cut off (winsorizing: P. Huber, Robust Statistics, 1981, 1.7 and 8.3), which hold better where outliers are many.
/// Four samples or more; of fewer all count.
struct WinsorizedRejection {
    float low = 3.5f;  ///< in units of sigma
    float high = 3.5f; ///< the same above
    int iterations = 5;
    std::string check() const;
    bool operator==(const WinsorizedRejection&) const = default;
};

/// Limits from what the noise model expects alone: the variance of each frame at the level of the pixel, photon noise
/// included, and what its seeing does to star cores. No spread is taken from the samples, of which there are too few to
/// tell one (P. van Dokkum, PASP 113, 2001, on cosmic rays in single frames by the noise model). Begins at the median.
/// Three samples or more, and the noise must be known; else all count.
struct NoiseRejection {
    float low = 4.0f;  ///< in units of the expected noise
    float high = 4.0f; ///< the same above
    int iterations = 4;
    std::string check() const;
    bool operator==(const NoiseRejection&) const = default;
};

/// Samples that differ from the median by more than a share of it. For a handful of frames of which nothing is known;
/// where the median is not above zero all count. Three samples or more.
struct PercentileRejection {
    float low = 0.2f;  ///< share of the median
    float high = 0.1f; ///< the same above
    std::string check() const;
    bool operator==(const PercentileRejection&) const = default;
};

/// So many of the lowest and of the highest samples do not count, whatever they are (the trimmed mean; J. Tukey and D.
/// McLaughlin, Sankhya A 25, 1963). Costs efficiency always. Samples that equal a neighbour in rank stay. Of no more
/// samples than both together all count.
struct MinMaxRejection {
    int low = 1;  ///< samples
    int high = 1; ///< the same above
    std::string check() const;
    bool operator==(const MinMaxRejection&) const = default;
};

/// Generalised extreme studentised deviate: the number of outliers, up to a limit, is the largest for which the most
/// extreme sample of what is left lies beyond the critical value of its rank (B. Rosner, Technometrics 25, 1983). The
/// spread is that of the samples. Meant for 15 samples and more, of fewer all count.
struct EsdRejection {
    static constexpr int kLeast = 15; ///< samples
    float significance = 0.05f;       ///< probability that a pixel without outliers loses a sample
    float share = 0.3f;               ///< of the samples that may be outliers, at most
    float low = 1.0f;                 ///< factor of the critical values below
    float high = 1.0f;                ///< the same above
    std::string check() const;
    bool operator==(const EsdRejection&) const = default;
};

/// Residuals from a straight line through the ranked samples over the scores that ranks of normal noise have, which is
/// fitted to the middle half first (probability plot; M. Wilk and R. Gnanadesikan, Biometrika 55, 1968; scores by G.
/// Blom, Statistical Estimates and Transformed Beta-Variables, 1958). That extremes of many samples lie far out is in
/// the scores, so that limits need not grow with their number. Eight samples or more; of fewer all count.
struct LineRejection {
    static constexpr int kLeast = 8; ///< samples
    float low = 2.5f;                ///< in units of the line's slope, which is sigma
    float high = 2.5f;               ///< the same above
    int iterations = 4;
    std::string check() const;
    bool operator==(const LineRejection&) const = default;
};

/// Of two samples that disagree beyond their noise, which must be known, the lower counts: particles and stars only
/// add. Of more than two all count.
struct PairRejection {
    float sigmas = 6.0f; ///< of their difference
    std::string check() const;
    bool operator==(const PairRejection&) const = default;
};

using Rejection = std::variant<NoRejection, SigmaRejection, PairRejection, WinsorizedRejection, NoiseRejection,
                               PercentileRejection, MinMaxRejection, EsdRejection, LineRejection>;

std::string check(const Rejection& rejection);
/// "none", "sigma", "pair", "winsorized", "noise", "percentile", "min-max", "esd", "line".
std::string_view rejection_name(const Rejection& rejection);
/// The method of this name with its defaults; nothing if there is none.
std::optional<Rejection> rejection_named(std::string_view name);
/// All names, in the order of the variant.
std::vector<std::string_view> rejection_names();
/// Samples of a pixel from which on the method does anything.
int least_samples(const Rejection& rejection);
/// Whether it may reject what lies above; what lies below.
bool rejects_high(const Rejection& rejection);
bool rejects_low(const Rejection& rejection);
/// In words, for headers and reasons: "rejecting beyond 4 sigma below and 3 above". Empty where nothing is rejected.
std::string rejection_text(const Rejection& rejection);

/// Its options by name, as numbers in words: {"low", "3"}, ...
std::vector<std::pair<std::string, std::string>> rejection_settings(const Rejection& rejection);

/// Sets the option of that name; false if the method has none such. Whole numbers are rounded to.
bool set_rejection_option(Rejection& rejection, std::string_view name, double value);

/// How the samples that count become one.
enum class Combination {
    mean,   ///< weighted
    median, ///< weights do not matter; the mean of the middle two of an even number
    sum,    ///< the weighted mean times the number of frames: what is missing in one, the others stand in for
    max,    ///< to see every flaw
    min,    ///< the same below
    huber,  ///< M-estimate: beyond two sigma a sample counts in proportion to 1 / distance (P. Huber, Ann. Math. Stat.
            ///< 35, 1964); on clean data 99 % as efficient as the mean
    tukey,  ///< M-estimate: weights fall to zero at six sigma (the bisquare; A. Beaton and J. Tukey, Technometrics 16,
            ///< 1974); 98 %
};
/// "mean", "median", "sum", "max", "min", "huber", "tukey".
std::string_view combination_name(Combination combination);
std::optional<Combination> combination_named(std::string_view name);

/// Both together.
struct CombineOptions {
    Rejection rejection = SigmaRejection{};
    Combination combination = Combination::mean;
    /// Refuses what contradicts itself as well: the maximum of samples of which the high ones were rejected.
    std::string check() const;
    bool operator==(const CombineOptions&) const = default;
};

} // namespace kasane
