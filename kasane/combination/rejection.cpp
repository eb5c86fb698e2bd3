#include <kasane/combination/rejection.hpp>

#include <array>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

/// The text that a method gives for itself.
struct Words {
    std::string operator()(const NoRejection&) const { return {}; }
    std::string operator()(const SigmaRejection& o) const {
        if (o.low == o.high) return o.high > 0 ? fmt::format("rejecting beyond {:g} sigma", o.high) : std::string{};
        if (o.low > 0 && o.high > 0)
            return fmt::format("rejecting beyond {:g} sigma below and {:g} above", o.low, o.high);
        return o.low > 0 ? fmt::format("rejecting beyond {:g} sigma below", o.low)
                         : fmt::format("rejecting beyond {:g} sigma above", o.high);
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
};

} // namespace

std::string SigmaRejection::check() const {
    if (std::isnan(low) || std::isnan(high)) return "the limits of a sigma rejection must be numbers";
    if (iterations < 0 || iterations > 100)
        return fmt::format("a sigma rejection goes on for 0 to 100 iterations, not {}", iterations);
    return {};
}

std::string PairRejection::check() const {
    if (!(sigmas > 0)) return fmt::format("two samples disagree beyond more than 0 sigma, not {:g}", sigmas);
    return {};
}

std::string check(const Rejection& rejection) {
    return std::visit([](const auto& o) { return o.check(); }, rejection);
}

std::string_view rejection_name(const Rejection& rejection) {
    constexpr std::array<std::string_view, std::variant_size_v<Rejection>> kNames = {"none", "sigma", "pair"};
    return kNames.at(rejection.index());
}

std::string rejection_text(const Rejection& rejection) {
    return std::visit(Words{}, rejection);
}

Settings rejection_settings(const Rejection& rejection) {
    return std::visit(ByName{}, rejection);
}

std::string_view combination_name(Combination combination) {
    return combination == Combination::median ? "median" : "mean";
}

} // namespace kasane
