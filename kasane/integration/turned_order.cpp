#include <kasane/integration/turned_order.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

bool TurnedOrder::is_steep(const Affine& to_frame) {
    return std::abs(to_frame.e) < std::abs(to_frame.d);
}

/// Along (1, slope), or (slope, 1) where it is steep, the row of the frame stays the same.
double TurnedOrder::slope_of(const Affine& to_frame) {
    const double slope = is_steep(to_frame) ? -to_frame.e / to_frame.d : -to_frame.d / to_frame.e;
    return std::isfinite(slope) ? slope : 0;
}

TurnedOrder::TurnedOrder(const Affine& to_frame, int width, int height)
    : steep_(is_steep(to_frame)), width_(width), height_(height), slope_(slope_of(to_frame)) {
    const int count = length(), lines = across();
    if (count <= 0 || lines <= 0) return;
    const std::int32_t along = steep_ ? width : 1, rise = steep_ ? 1 : width;
    step_ = slope_ < 0 ? -rise : rise;
    for (int i = 0; i < count; ++i) {
        rise_.push_back(static_cast<std::int32_t>(std::abs(slope_) * i + 0.5));
        places_.push_back(beside(0) * rise + i * along + rise_.back() * step_);
    }
    constexpr int kTogether = LineGroup::kTogether;
    int begin = count, end = count; // of the part of a line that lies within the rectangle; both go back
    const auto go_back = [&](int& to, int least) {
        while (to > 0 && rise_[static_cast<std::size_t>(to) - 1] >= least)
            --to;
    };
    for (int line = -rise_.back(); line < lines; ++line) {
        go_back(begin, -line);
        go_back(end, lines - line);
        if (end - begin < kTogether) {
            groups_.push_back({begin, line, end - begin});
            continue;
        }
        for (int i = begin; i < end; i += kTogether)
            groups_.push_back({std::min(i, end - kTogether), line, kTogether});
    }
}

bool TurnedOrder::fits(const Affine& to_frame, int width, int height) const {
    constexpr double kOff = 0.1 / LineGroup::kTogether;
    return width == width_ && height == height_ && is_steep(to_frame) == steep_ &&
           (slope_ < 0) == (slope_of(to_frame) < 0) && std::abs(slope_of(to_frame) - slope_) < kOff;
}

bool TurnedOrder::worth_while(const Affine& to_frame) {
    constexpr double kRows = 0.05; // from one pixel to the next
    return std::abs(to_frame.d) > kRows;
}

} // namespace kasane
