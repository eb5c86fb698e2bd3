#include <kasane/integration/length_fade.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr std::uint8_t kFar = 255;

} // namespace

void LengthFade::begin(const std::vector<std::uint8_t>& left, int width, int height) {
    distance2_.assign(left.size(), kFar);
    const auto place = [&](int x, int y) {
        return static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x);
    };
    const auto within = [&](int x, int y) { return x >= 0 && y >= 0 && x < width && y < height; };
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const std::uint8_t here = left[place(x, y)];
            if (here == 0) continue;
            const auto fewer = [&](int i, int j) { return within(i, j) && left[place(i, j)] < here; };
            if (!fewer(x - 1, y) && !fewer(x + 1, y) && !fewer(x, y - 1) && !fewer(x, y + 1)) continue;
            for (int j = -kWidth; j <= kWidth; ++j)
                for (int i = -kWidth; i <= kWidth; ++i) {
                    const int d2 = i * i + j * j;
                    if (d2 > kWidth * kWidth || !fewer(x + i, y + j)) continue;
                    std::uint8_t& d = distance2_[place(x + i, y + j)];
                    d = std::min(d, static_cast<std::uint8_t>(d2));
                }
        }
}

double LengthFade::share(std::size_t pixel) const {
    if (distance2_[pixel] == kFar) return 1;
    const double t = std::min(1.0, std::sqrt(static_cast<double>(distance2_[pixel])) / (kWidth + 1));
    return t * t * (3 - 2 * t);
}

} // namespace kasane
