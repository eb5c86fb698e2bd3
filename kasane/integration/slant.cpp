#include <kasane/integration/slant.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

Slant::Slant(const Affine& to_frame) : steep(std::abs(to_frame.e) < std::abs(to_frame.d)) {
    // Along (1, slope) or (slope, 1) the row of the frame stays the same.
    double slope = steep ? -to_frame.e / to_frame.d : -to_frame.d / to_frame.e;
    if (!std::isfinite(slope)) slope = 0;
    for (std::size_t i = 0; i < rise.size(); ++i)
        rise[i] = static_cast<std::int32_t>(std::lround(slope * static_cast<double>(i)));
}

int Slant::lowest() const {
    return std::min(rise.front(), rise.back());
}

int Slant::highest() const {
    return std::max(rise.front(), rise.back());
}

bool Slant::worth_while(const Affine& to_frame) {
    constexpr double kRows = 0.05; // from one pixel to the next
    return std::abs(to_frame.d) > kRows;
}

} // namespace kasane
