#include <kasane/image/resample.hpp>

#include <kasane/base/units.hpp>

#include <cmath>

namespace kasane {

namespace {
double lanczos3(double t) {
    t = std::abs(t);
    if (t < 1e-12) return 1;
    if (t >= kLanczosRadius) return 0;
    const double x = kPi * t;
    return kLanczosRadius * std::sin(x) * std::sin(x / kLanczosRadius) / (x * x);
}
} // namespace

std::array<double, kLanczosTaps> lanczos3_weights(double fraction) {
    std::array<double, kLanczosTaps> w{};
    double sum = 0;
    for (int k = 0; k < kLanczosTaps; ++k) {
        w[static_cast<std::size_t>(k)] = lanczos3(k - (kLanczosRadius - 1) - fraction);
        sum += w[static_cast<std::size_t>(k)];
    }
    for (double& x : w)
        x /= sum;
    return w;
}

float resample_lanczos3_reference(View<const float> source, double u, double v, const ResampleOptions& options) {
    const double fu = std::floor(u), fv = std::floor(v);
    constexpr int kBefore = kLanczosRadius - 1;
    if (!(fu >= kBefore && fv >= kBefore && fu + kLanczosRadius < source.width && fv + kLanczosRadius < source.height))
        return kNoData;
    const int x0 = static_cast<int>(fu) - kBefore, y0 = static_cast<int>(fv) - kBefore;
    const auto wx = lanczos3_weights(u - fu), wy = lanczos3_weights(v - fv);
    double sum = 0;
    float highest = -std::numeric_limits<float>::infinity(), floor4 = std::numeric_limits<float>::infinity();
    for (int j = 0; j < kLanczosTaps; ++j)
        for (int i = 0; i < kLanczosTaps; ++i) {
            const float s = source(x0 + i, y0 + j);
            sum += wx[static_cast<std::size_t>(i)] * wy[static_cast<std::size_t>(j)] * s;
            highest = std::max(highest, s);
            const bool nearest = (i == kBefore || i == kBefore + 1) && (j == kBefore || j == kBefore + 1);
            if (nearest) floor4 = std::min(floor4, s);
        }
    const auto value = static_cast<float>(sum);
    const float least = floor4 - options.ringing_left;
    return highest - floor4 > options.ringing_contrast && value < least ? least : value;
}

} // namespace kasane
