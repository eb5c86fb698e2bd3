#include <kasane/combination/quantiles.hpp>

#include <cmath>
#include <initializer_list>
#include <numbers>

namespace kasane {

double log_gamma(double x) {
    int sign = 0;
    return ::lgamma_r(x, &sign);
}

namespace {

/// Where a growing function crosses a value, by halving.
template <class F>
double solve(F f, double value, double low, double high) {
    for (int i = 0; i < 200 && high - low > 1e-13 * (1 + std::abs(low)); ++i) {
        const double middle = 0.5 * (low + high);
        (f(middle) < value ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

/// The regularised incomplete beta function by its continued fraction (M. Abramowitz and I. Stegun, Handbook of
/// Mathematical Functions, 26.5.8; evaluated after W. Lentz, Appl. Opt. 15, 1976).
double incomplete_beta(double a, double b, double x) {
    if (x <= 0) return 0;
    if (x >= 1) return 1;
    if (x > (a + 1) / (a + b + 2)) return 1 - incomplete_beta(b, a, 1 - x);
    const double front =
        std::exp(log_gamma(a + b) - log_gamma(a) - log_gamma(b) + a * std::log(x) + b * std::log1p(-x)) / a;
    constexpr double kTiny = 1e-300;
    const auto away = [](double v) { return std::abs(v) < kTiny ? kTiny : v; };
    double c = 1, d = 1 / away(1 - (a + b) * x / (a + 1)), sum = d;
    for (int m = 1; m < 500; ++m) {
        for (const bool even : {true, false}) {
            const double term = even ? m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
                                     : -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1));
            d = 1 / away(1 + term * d);
            c = away(1 + term / c);
            sum *= c * d;
        }
        if (std::abs(c * d - 1) < 1e-15) break;
    }
    return front * sum;
}

} // namespace

double normal_quantile(double p) {
    if (p > 0.5) return -normal_quantile(1 - p);
    return solve([](double x) { return 0.5 * std::erfc(-x / std::numbers::sqrt2); }, p, -40, 0);
}

double student_quantile(double p, double degrees) {
    if (p < 0.5) return -student_quantile(1 - p, degrees);
    // The share beyond x on both sides is a beta function of degrees / (degrees + x^2).
    const double both = 2 * (1 - p);
    const double share = solve([&](double v) { return incomplete_beta(0.5 * degrees, 0.5, v); }, both, 0, 1);
    return share > 0 ? std::sqrt(degrees * (1 - share) / share) : HUGE_VAL;
}

} // namespace kasane
