#include <kasane/combination/methods.hpp>

#include <kasane/combination/quantiles.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

/// B. Rosner, Technometrics 25, 1983, equation 2.5: with n samples left, the most extreme lies beyond this by chance
/// with the given probability.
double critical_value(double n, double significance, bool both_sides) {
    if (n < 3) return std::numeric_limits<double>::infinity();
    const double p = 1 - significance / ((both_sides ? 2 : 1) * n), t = student_quantile(p, n - 2);
    return (n - 1) * t / std::sqrt((n - 2 + t * t) * n);
}

struct Table {
    int frames;
    std::vector<float> operator()(const EsdRejection& o) const {
        std::vector<float> limits;
        for (int n = 0; n <= frames; ++n)
            limits.push_back(static_cast<float>(critical_value(n, o.significance, o.low > 0 && o.high > 0)));
        return limits;
    }
    std::vector<float> operator()(const LineRejection&) const {
        std::vector<float> scores;
        for (int i = 0; i < frames; ++i) // G. Blom
            scores.push_back(static_cast<float>(normal_quantile((i + 0.625) / (frames + 0.25))));
        return scores;
    }
    template <class O>
    std::vector<float> operator()(const O&) const {
        return {};
    }
};

} // namespace

std::vector<float> method_table(const Rejection& rejection, int frames) {
    return std::visit(Table{frames}, rejection);
}

float clip_correction(float low, float high) {
    const double c = std::max(1.0f, std::min(low > 0 ? low : 9.0f, high > 0 ? high : 9.0f));
    return static_cast<float>(1 / std::pow(truncated_sigma(c), 2));
}

} // namespace kasane
