#include <kasane/combination/rejection.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <utility>

namespace kasane {

namespace {

/// "beyond 3 sigma", "beyond 4 sigma below and 3 above"; empty where neither side has a limit. Units stand behind the
/// first number.
std::string beyond(double low, double high, std::string_view unit) {
    low = std::max(0.0, low), high = std::max(0.0, high);
    if (low == high) return high > 0 ? fmt::format("rejecting beyond {:g} {}", high, unit) : std::string{};
    if (low > 0 && high > 0) return fmt::format("rejecting beyond {:g} {} below and {:g} above", low, unit, high);
    return low > 0 ? fmt::format("rejecting beyond {:g} {} below", low, unit)
                   : fmt::format("rejecting beyond {:g} {} above", high, unit);
}

std::string and_how(std::string text, std::string_view how) {
    if (!text.empty()) text += how;
    return text;
}

/// The text that a method gives for itself.
struct Words {
    std::string operator()(const NoRejection&) const { return {}; }
    std::string operator()(const SigmaRejection& o) const { return beyond(o.low, o.high, "sigma"); }
    std::string operator()(const WinsorizedRejection& o) const {
        return and_how(beyond(o.low, o.high, "sigma"), " (winsorized)");
    }
    std::string operator()(const NoiseRejection& o) const {
        return and_how(beyond(o.low, o.high, "sigma"), " of the expected noise");
    }
    std::string operator()(const PercentileRejection& o) const {
        return and_how(beyond(100 * o.low, 100 * o.high, "%"), " of the median");
    }
    std::string operator()(const MinMaxRejection& o) const {
        if (o.low == 0 && o.high == 0) return {};
        return fmt::format("without the {} lowest and the {} highest", o.low, o.high);
    }
    std::string operator()(const EsdRejection& o) const {
        if (o.low <= 0 && o.high <= 0) return {};
        const char* side = o.low <= 0 ? " above" : o.high <= 0 ? " below" : "";
        std::string text = fmt::format("rejecting{} by generalised ESD, up to {:g} % at a significance of {:g}", side,
                                       100 * o.share, o.significance);
        if (o.low > 0 && o.high > 0 && (o.low != 1 || o.high != 1))
            text += fmt::format(" (limits times {:g} below, {:g} above)", o.low, o.high);
        return text;
    }
    std::string operator()(const LineRejection& o) const {
        return and_how(beyond(o.low, o.high, "sigma"), " off a line through the ranks");
    }
    std::string operator()(const PairRejection& o) const {
        return fmt::format("the lower where they disagree beyond {:g} sigma", o.sigmas);
    }
};

using Settings = std::vector<std::pair<std::string, std::string>>;
struct ByName {
    Settings operator()(const NoRejection&) const { return {}; }
    Settings operator()(const SigmaRejection& o) const {
        return {{"low", fmt::format("{:g}", o.low)},
                {"high", fmt::format("{:g}", o.high)},
                {"iterations", std::to_string(o.iterations)}};
    }
    Settings operator()(const PairRejection& o) const { return {{"sigmas", fmt::format("{:g}", o.sigmas)}}; }
    Settings operator()(const WinsorizedRejection& o) const { return iterated(o); }
    Settings operator()(const NoiseRejection& o) const { return iterated(o); }
    Settings operator()(const LineRejection& o) const { return iterated(o); }
    Settings operator()(const PercentileRejection& o) const {
        return {{"low", fmt::format("{:g}", o.low)}, {"high", fmt::format("{:g}", o.high)}};
    }
    Settings operator()(const MinMaxRejection& o) const {
        return {{"low", std::to_string(o.low)}, {"high", std::to_string(o.high)}};
    }
    Settings operator()(const EsdRejection& o) const {
        return {{"significance", fmt::format("{:g}", o.significance)},
                {"share", fmt::format("{:g}", o.share)},
                {"low", fmt::format("{:g}", o.low)},
                {"high", fmt::format("{:g}", o.high)}};
    }

private:
    template <class O>
    static Settings iterated(const O& o) {
        return {{"low", fmt::format("{:g}", o.low)},
                {"high", fmt::format("{:g}", o.high)},
                {"iterations", std::to_string(o.iterations)}};
    }
};

constexpr std::array<std::string_view, std::variant_size_v<Rejection>> kNames = {
    "none", "sigma", "pair", "winsorized", "noise", "percentile", "min-max", "esd", "line"};

constexpr std::array<std::string_view, 7> kCombinations = {"mean", "median", "sum", "max", "min", "huber", "tukey"};

template <class Method>
std::string check_limits(const Method& o, const char* what) {
    if (std::isnan(o.low) || std::isnan(o.high)) return fmt::format("the limits of a {} must be numbers", what);
    return {};
}

template <class Method>
std::string check_iterated(const Method& o, const char* what) {
    if (std::string wrong = check_limits(o, what); !wrong.empty()) return wrong;
    if (o.iterations < 0 || o.iterations > 100)
        return fmt::format("a {} goes on for 0 to 100 iterations, not {}", what, o.iterations);
    return {};
}

template <std::size_t... I>
std::optional<Rejection> method_at(std::size_t at, std::index_sequence<I...>) {
    std::optional<Rejection> out;
    ((I == at ? void(out = std::variant_alternative_t<I, Rejection>{}) : void()), ...);
    return out;
}

/// Writes an option by its name.
struct Setter {
    std::string_view name;
    double value;

    bool operator()(NoRejection&) const { return false; }
    bool operator()(PairRejection& o) const { return put("sigmas", o.sigmas); }
    bool operator()(SigmaRejection& o) const { return iterated(o); }
    bool operator()(WinsorizedRejection& o) const { return iterated(o); }
    bool operator()(NoiseRejection& o) const { return iterated(o); }
    bool operator()(LineRejection& o) const { return iterated(o); }
    bool operator()(PercentileRejection& o) const { return sides(o); }
    bool operator()(MinMaxRejection& o) const { return sides(o); }
    bool operator()(EsdRejection& o) const {
        return sides(o) || put("significance", o.significance) || put("share", o.share);
    }

private:
    bool put(std::string_view option, float& to) const {
        if (option == name) to = static_cast<float>(value);
        return option == name;
    }
    bool put(std::string_view option, int& to) const {
        if (option == name) to = static_cast<int>(std::lround(std::clamp(value, -1e9, 1e9)));
        return option == name;
    }
    template <class O>
    bool sides(O& o) const {
        return put("low", o.low) || put("high", o.high);
    }
    template <class O>
    bool iterated(O& o) const {
        return sides(o) || put("iterations", o.iterations);
    }
};

/// The limit of a side of a method.
struct Sides {
    bool high;
    bool operator()(const NoRejection&) const { return false; }
    bool operator()(const PairRejection&) const { return high; }
    template <class O>
    bool operator()(const O& o) const {
        return (high ? o.high : o.low) > 0;
    }
};

struct Least {
    int operator()(const NoRejection&) const { return 1; }
    int operator()(const PairRejection&) const { return 2; }
    int operator()(const WinsorizedRejection&) const { return 4; }
    int operator()(const MinMaxRejection& o) const { return o.low + o.high + 1; }
    int operator()(const EsdRejection&) const { return EsdRejection::kLeast; }
    int operator()(const LineRejection&) const { return LineRejection::kLeast; }
    template <class O>
    int operator()(const O&) const {
        return 3;
    }
};

} // namespace

std::string SigmaRejection::check() const {
    return check_iterated(*this, "sigma rejection");
}

std::string WinsorizedRejection::check() const {
    return check_iterated(*this, "winsorized rejection");
}

std::string NoiseRejection::check() const {
    return check_iterated(*this, "rejection by the noise model");
}

std::string LineRejection::check() const {
    return check_iterated(*this, "rejection by a line");
}

std::string PercentileRejection::check() const {
    return check_limits(*this, "percentile rejection");
}

std::string MinMaxRejection::check() const {
    constexpr int kMost = 1000;
    for (const int n : {low, high})
        if (n < 0 || n > kMost)
            return fmt::format("a min-max rejection takes 0 to {} samples off each side, not {}", kMost, n);
    return {};
}

std::string EsdRejection::check() const {
    if (!(significance > 0 && significance < 1))
        return fmt::format("the significance of a test lies between 0 and 1, not at {:g}", significance);
    if (!(share > 0 && share <= 0.5f))
        return fmt::format("up to half of the samples may be outliers, not a share of {:g}", share);
    return check_limits(*this, "rejection by ESD");
}

std::string PairRejection::check() const {
    if (!(sigmas > 0)) return fmt::format("two samples disagree beyond more than 0 sigma, not {:g}", sigmas);
    return {};
}

std::string check(const Rejection& rejection) {
    return std::visit([](const auto& o) { return o.check(); }, rejection);
}

std::string_view rejection_name(const Rejection& rejection) {
    return kNames.at(rejection.index());
}

std::vector<std::string_view> rejection_names() {
    return {kNames.begin(), kNames.end()};
}

std::optional<Rejection> rejection_named(std::string_view name) {
    const auto at = static_cast<std::size_t>(std::find(kNames.begin(), kNames.end(), name) - kNames.begin());
    return method_at(at, std::make_index_sequence<std::variant_size_v<Rejection>>());
}

int least_samples(const Rejection& rejection) {
    return std::visit(Least{}, rejection);
}

bool rejects_high(const Rejection& rejection) {
    return std::visit(Sides{true}, rejection);
}

bool rejects_low(const Rejection& rejection) {
    return std::visit(Sides{false}, rejection);
}

std::string rejection_text(const Rejection& rejection) {
    return std::visit(Words{}, rejection);
}

Settings rejection_settings(const Rejection& rejection) {
    return std::visit(ByName{}, rejection);
}

bool set_rejection_option(Rejection& rejection, std::string_view name, double value) {
    return std::visit(Setter{name, value}, rejection);
}

std::string_view combination_name(Combination combination) {
    return kCombinations.at(static_cast<std::size_t>(combination));
}

std::optional<Combination> combination_named(std::string_view name) {
    const auto it = std::find(kCombinations.begin(), kCombinations.end(), name);
    if (it == kCombinations.end()) return std::nullopt;
    return static_cast<Combination>(it - kCombinations.begin());
}

std::string CombineOptions::check() const {
    if (std::string wrong = kasane::check(rejection); !wrong.empty()) return wrong;
    if (combination == Combination::max && rejects_high(rejection))
        return "the maximum shows what lies above the others, which the rejection takes away: reject nothing, or only "
               "what lies below";
    if (combination == Combination::min && rejects_low(rejection))
        return "the minimum shows what lies below the others, which the rejection takes away: reject nothing, or only "
               "what lies above";
    return {};
}

} // namespace kasane
