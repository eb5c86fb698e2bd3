#include <kasane/integration/turned_order.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

TurnedOrder::TurnedOrder(const Affine& to_frame, int width, int height, std::ptrdiff_t stride)
    : steep_(std::abs(to_frame.e) < std::abs(to_frame.d)), across_(steep_ ? width : height) {
    // Along (1, slope) or (slope, 1) the row of the frame stays the same.
    double slope = steep_ ? -to_frame.e / to_frame.d : -to_frame.d / to_frame.e;
    if (!std::isfinite(slope)) slope = 0;
    falling_ = slope < 0;
    const auto row = static_cast<std::int32_t>(stride);
    const std::int32_t along = steep_ ? row : 1, rise = steep_ ? 1 : row;
    step_ = falling_ ? -rise : rise;
    const auto count = static_cast<std::size_t>(std::max(0, steep_ ? height : width));
    rise_.resize(count);
    places_.resize(count);
    for (std::size_t i = 0; i < count; ++i) {
        rise_[i] = static_cast<std::int32_t>(std::abs(slope) * static_cast<double>(i) + 0.5);
        places_[i] = beside(0) * rise + static_cast<std::int32_t>(i) * along + rise_[i] * step_;
    }
    line_ = count > 0 ? -rise_.back() : across_;
    begin_ = end_ = static_cast<int>(count);
    settle_line();
}

bool TurnedOrder::worth_while(const Affine& to_frame) {
    constexpr double kRows = 0.05; // from one pixel to the next
    return std::abs(to_frame.d) > kRows;
}

/// The part of a line that lies within the rectangle.
void TurnedOrder::settle_line() {
    const auto go_back = [&](int& to, int least) { // both come nearer from line to line
        while (to > 0 && rise_[static_cast<std::size_t>(to) - 1] >= least)
            --to;
    };
    go_back(begin_, -line_);
    go_back(end_, across_ - line_);
    at_ = begin_;
}

std::size_t TurnedOrder::next(std::span<LineGroup> to) {
    constexpr int kTogether = LineGroup::kTogether;
    std::size_t told = 0;
    while (line_ < across_ && told < to.size()) {
        const int left = end_ - at_, known = std::max(0, kTogether - left); // of the rest, if it is to be whole
        const bool whole = known == 0 || (at_ >= known && rise_[static_cast<std::size_t>(at_ - known)] + line_ >= 0);
        to[told++] = whole ? LineGroup{at_ - known, line_, kTogether} : LineGroup{at_, line_, left};
        at_ += kTogether;
        if (at_ < end_) continue;
        ++line_;
        settle_line();
    }
    return told;
}

} // namespace kasane
