// Limits: the rules that drop exposures, in a small grammar.
//
//   limit     = ( condition { "and" condition } | ranking ) [ "for" filter { "," filter } ] [ "on" night ]
//   condition = measure ( ">" | "<" | ">=" | "<=" ) bound
//   bound     = number [ unit ]
//             | [ number "x" ] reference [ ( "+" | "-" ) number [ "x" ] "spread" ]
//   reference = [ "night" | "stack" ] ( "median" | "best" )
//   ranking   = "best" number [ "%" ] "by" measure
//
// A limit drops the exposures for which all its conditions hold, a ranking all but the best. "fwhm > 1.4 x median",
// "stars < night median - 3 spread", "sky > 2 x night median and worth < 0.7", "best 80 % by worth for Ha, O3".
#pragma once

#include <kasane/grading/figures.hpp>

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// How a measure is spread over the exposures of a stack or of its night.
struct Distribution {
    int count = 0;
    double median = 0;
    double spread = 0; ///< 1.4826 x median absolute deviation
    double best = 0;   ///< what one in twenty surpasses; the median where more is neither better nor worse
};
Distribution distribution_of(Measure measure, std::vector<double> values);

struct Bound {
    enum class Reference { none, median, best };
    Reference reference = Reference::none;
    bool of_night = false; ///< of the exposure's night within its stack, else of the whole stack
    double number = 0;     ///< the bound itself, or the factor of the reference
    double spreads = 0;    ///< added, in units of the spread
};

struct Condition {
    Measure measure = Measure::stars;
    bool above = true;     ///< drops what is above the bound, else what is below
    bool or_equal = false; ///< what equals it too
    Bound bound;
};

struct Ranking {
    double count = 0;
    bool percent = false;
    Measure by = Measure::worth;
};

struct Limit {
    std::vector<Condition> conditions;
    std::optional<Ranking> ranking;
    std::vector<std::string> filters; ///< empty: all
    std::string night;                ///< empty: all
};

/// Throws UsageError, which says where the text stops making sense and what is expected there.
Limit parse_limit(const std::string& text);
/// The limit as parse_limit reads it, in one form.
std::string limit_text(const Limit& limit);

/// What limits hold by where nobody says anything: they drop cloud, twilight, obstructions, shaken and badly focused
/// exposures, each judged against its own stack and night.
const std::vector<std::string>& standard_limits();

/// What limits are held against: the distributions of a stack and of its nights. A night with fewer than four exposures
/// in the stack is held against the whole stack.
class Distributions {
public:
    /// `figures` and `nights` of the exposures that can be used at all.
    Distributions(const std::vector<const Figures*>& figures, const std::vector<std::string>& nights);
    const Distribution& of(Measure measure, const std::string& night, bool of_night) const;
    /// NaN where the reference is not known.
    double bound_value(const Condition& condition, const std::string& night) const;

private:
    using All = std::array<Distribution, kMeasures>;
    All stack_;
    std::map<std::string, All> nights_;
};

/// Whether a condition holds for a value; unknown values meet no condition.
bool holds(const Condition& condition, double value, double bound);
/// "fwhm 4.31 px is above 3.92 (1.4 x night median)".
std::string reason_text(const Condition& condition, double value, double bound);

} // namespace kasane
