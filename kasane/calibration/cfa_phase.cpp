#include <kasane/calibration/cfa_phase.hpp>

#include <kasane/image/statistics.hpp>

#include <array>
#include <cmath>
#include <vector>

namespace kasane {

std::string contradicted_phase(const FrameReader& lit, const CfaPattern& stated) {
    if (stated.period() != 2 || lit.planes() != 1 || lit.width() < 64 || lit.height() < 64) return {};
    constexpr int kBands = 16;
    // Differences within each square of four pixels, which gradients and vignetting hardly touch.
    std::vector<float> first, second, between;
    Image rows(lit.width(), 2);
    for (int b = 0; b < kBands; ++b) {
        const int y = (static_cast<int>((b + 0.5) * lit.height() / kBands) & ~1);
        if (y + 2 > lit.height()) continue;
        lit.read({0, y, lit.width(), 2}, rows.plane());
        for (int x = 0; x + 1 < lit.width(); x += 2) {
            const float a = rows(x, 0), d = rows(x + 1, 1), c = rows(x + 1, 0), e = rows(x, 1);
            if (!std::isfinite(a + d + c + e)) continue;
            first.push_back(a - d);  // upper left against lower right
            second.push_back(c - e); // upper right against lower left
            between.push_back(0.5f * (a + d - c - e));
        }
    }
    if (first.size() < 500) return {};
    const auto mean_of = [](std::vector<float>& v, double& error) {
        const RobustStatistics s = clipped_statistics(v, 3);
        error = s.sigma / std::sqrt(static_cast<double>(std::max<std::size_t>(1, s.used)));
        return static_cast<double>(s.location);
    };
    double e1 = 0, e2 = 0;
    const double d1 = std::abs(mean_of(first, e1)), d2 = std::abs(mean_of(second, e2));
    const bool greens_first = stated.colour(0, 0) == 1; // on the diagonal of the first pixel
    const double stated_pair = greens_first ? d1 : d2, other_pair = greens_first ? d2 : d1;
    const double error = std::hypot(e1, e2);
    constexpr double kSure = 8, kUnlike = 4; // errors; times less alike than the other pair
    if (stated_pair < other_pair + kSure * error || stated_pair < kUnlike * other_pair) return {};
    return greens_first ? "RGGB or BGGR" : "GRBG or GBRG";
}

} // namespace kasane
