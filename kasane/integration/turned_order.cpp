#include <kasane/integration/turned_order.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

TurnedOrder::TurnedOrder(const Affine& to_frame, int width, int height, std::ptrdiff_t stride) {
    // Along (1, slope) or (slope, 1) the row of the frame stays the same.
    const bool steep = std::abs(to_frame.e) < std::abs(to_frame.d);
    double slope = steep ? -to_frame.e / to_frame.d : -to_frame.d / to_frame.e;
    if (!std::isfinite(slope)) slope = 0;
    const auto row = static_cast<std::int32_t>(stride);
    const std::int32_t along = steep ? row : 1, rise = steep ? 1 : row;
    across_ = steep ? width : height;
    // Lines that fall are lines that rise from the last row up.
    const std::int32_t begin = slope < 0 ? (across_ - 1) * rise : 0;
    step_ = slope < 0 ? -rise : rise;
    const auto count = static_cast<std::size_t>(std::max(0, steep ? height : width));
    places_.resize(count);
    offsets_.resize(count);
    for (std::size_t i = 0; i < count; ++i) {
        offsets_[i] = static_cast<int>(std::abs(slope) * static_cast<double>(i) + 0.5);
        places_[i] = begin + static_cast<std::int32_t>(i) * along + offsets_[i] * step_;
    }
    line_ = count > 0 ? -offsets_.back() : across_;
    settle_line();
}

bool TurnedOrder::worth_while(const Affine& to_frame) {
    constexpr double kRows = 0.05; // from one pixel to the next
    return std::abs(to_frame.d) > kRows;
}

/// The part of a line that lies within the rectangle.
void TurnedOrder::settle_line() {
    if (line_ >= across_) return;
    const auto first = [&](int offset) {
        return static_cast<int>(std::lower_bound(offsets_.begin(), offsets_.end(), offset) - offsets_.begin());
    };
    at_ = first(-line_);
    end_ = first(across_ - line_);
}

std::size_t TurnedOrder::next(std::span<std::int32_t> to) {
    std::size_t told = 0;
    while (line_ < across_ && told + kTogether <= to.size()) {
        const auto room = static_cast<int>((to.size() - told) / kTogether * kTogether);
        const int n = std::min(room, end_ - at_);
        const std::int32_t from = line_ * step_;
        for (int i = 0; i < n; ++i)
            to[told + static_cast<std::size_t>(i)] = places_[static_cast<std::size_t>(at_ + i)] + from;
        told += static_cast<std::size_t>(n);
        at_ += n;
        for (; told % kTogether != 0; ++told)
            to[told] = to[told - 1];
        if (at_ < end_) continue;
        ++line_;
        settle_line();
    }
    return told;
}

} // namespace kasane
