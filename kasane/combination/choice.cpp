#include <kasane/combination/choice.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {

constexpr int kFew = 6; // frames, below which limits are wide

struct Chosen {
    Rejection rejection;
    const char* why; ///< may be empty
};

Chosen choose(StackOf what, int frames) {
    if (frames == 2) return {PairRejection{}, ""};
    if (frames < 2) return {NoRejection{}, ""};
    if (frames < kFew) return {SigmaRejection{4.0f, 4.0f, 4}, "few frames, wide limits"};
    if (what == StackOf::flats) return {SigmaRejection{4.0f, 3.0f, 4}, "stars in a flat only add"};
    return {SigmaRejection{3.5f, 3.5f, 4}, "particles and noise"};
}

} // namespace

std::string combination_text(const CombineOptions& options, int frames) {
    if (frames == 1) return "a single frame, taken as it is";
    std::string text = fmt::format("{} frames: {}", frames, combination_name(options.combination));
    if (const std::string rejecting = rejection_text(options.rejection); !rejecting.empty()) text += ", " + rejecting;
    return text;
}

CombinationChoice choose_combination(StackOf what, int frames) {
    const auto [rejection, why] = choose(what, frames);
    const CombineOptions options{rejection, Combination::mean};
    std::string reason = combination_text(options, frames);
    if (*why) reason += fmt::format(" ({})", why);
    return {options, reason};
}

} // namespace kasane
