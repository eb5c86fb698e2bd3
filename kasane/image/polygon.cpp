#include <kasane/image/polygon.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

void fill_polygon(const Polygon& polygon, Mask& mask) {
    if (polygon.size() < 3) return;
    std::vector<double> crossings;
    for (int y = 0; y < mask.height(); ++y) {
        crossings.clear();
        for (std::size_t i = 0; i < polygon.size(); ++i) {
            const auto& [x0, y0] = polygon[i];
            const auto& [x1, y1] = polygon[(i + 1) % polygon.size()];
            if ((y0 <= y) == (y1 <= y)) continue;
            crossings.push_back(x0 + (y - y0) / (y1 - y0) * (x1 - x0));
        }
        std::sort(crossings.begin(), crossings.end());
        for (std::size_t k = 0; k + 1 < crossings.size(); k += 2) {
            const double from = std::clamp(std::ceil(crossings[k]), 0.0, static_cast<double>(mask.width())),
                         to = std::clamp(std::floor(crossings[k + 1]) + 1, 0.0, static_cast<double>(mask.width()));
            for (int x = static_cast<int>(from); x < static_cast<int>(to); ++x)
                mask(x, y) = 1;
        }
    }
}

} // namespace kasane
