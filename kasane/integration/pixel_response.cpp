#include <kasane/integration/pixel_response.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <cmath>
#include <cstring>

namespace kasane {

namespace {

/// Of the squared response: below it, what a frequency tells is left as it is rather than made as large as it was.
constexpr double kRegularisation = 0.03;
constexpr double kStep = 0.005; // cycles a pixel of a light
constexpr int kBand = 64;       // rows

double sinc(double x) {
    const double p = kPi * x;
    return std::abs(p) < 1e-9 ? 1 : std::sin(p) / p;
}

double gaussian_response(double fwhm, double frequency) {
    return std::exp(-2 * std::pow(kPi * frequency * fwhm / kFwhmPerSigma, 2));
}

/// Frequencies in cycles a pixel of a light, whose output pixels are `fine` of it wide.
class Responses {
public:
    Responses(const DrizzleOptions& o, double fine) : options_(o), fine_(fine) {}
    double of_drops(double f) const {
        const bool square = options_.shape == DropShape::square;
        return square ? sinc(f * options_.drop) * sinc(f * fine_) : gaussian_response(options_.drop, f);
    }
    double restoring(double f) const {
        const double blur = sinc(f) * of_drops(f);
        if (f >= 1 || !(blur > 0)) return 0; // from its first zero on a pixel tells nothing
        return (1 + kRegularisation) * blur / (blur * blur + kRegularisation) * gaussian_response(options_.smooth, f);
    }
    double highest() const { return 0.5 / fine_; }
    template <class F>
    double integral(F of) const {
        double sum = 0;
        for (double f = kStep / 2; f < highest(); f += kStep)
            sum += of(f) * kStep;
        return sum;
    }

private:
    DrizzleOptions options_;
    double fine_;
};

/// What lies behind the ends of a span, and in its gaps, counts as what lies before it, seen from the middle.
float across(const float* row, int width, int x, const std::vector<float>& kernel) {
    float left = row[x], right = row[x], sum = kernel[0] * row[x];
    for (int k = 1; k < static_cast<int>(kernel.size()); ++k) {
        if (x - k >= 0 && std::isfinite(row[x - k])) left = row[x - k];
        if (x + k < width && std::isfinite(row[x + k])) right = row[x + k];
        sum += kernel[static_cast<std::size_t>(k)] * (left + right);
    }
    return sum;
}

void convolve_row(const float* row, int width, const std::vector<float>& kernel, float* out) {
    const int reach = static_cast<int>(kernel.size()) - 1;
    const bool gaps = any_gap(row, static_cast<std::size_t>(width));
    const int first = gaps ? width : std::min(reach, width), end = gaps ? width : std::max(first, width - reach);
    for (int x = 0; x < width; ++x) {
        if (x == first) x = end; // those between have all their neighbours
        if (x < width) out[x] = std::isfinite(row[x]) ? across(row, width, x, kernel) : row[x];
    }
    if (first >= end) return;
    for (int x = first; x < end; ++x)
        out[x] = kernel[0] * row[x];
    for (int k = 1; k <= reach; ++k) {
        const float g = kernel[static_cast<std::size_t>(k)];
        for (int x = first; x < end; ++x)
            out[x] += g * (row[x - k] + row[x + k]);
    }
}

/// Rows of a plane whose first ones were written over already, and are kept.
struct Before {
    View<const float> plane;
    int begin = 0;                        ///< rows from here on are as they were
    std::vector<std::vector<float>> kept; ///< the last before it, the nearest first
    const float* row(int y) const {
        return y >= begin ? plane.row(y) : kept[static_cast<std::size_t>(begin - 1 - y)].data();
    }
};

float darkest_around(const Before& rows, int x, int y, int reach) {
    float least = rows.row(y)[x];
    for (int j = std::max(0, y - reach); j <= std::min(rows.plane.height - 1, y + reach); ++j)
        for (int i = std::max(0, x - reach); i <= std::min(rows.plane.width - 1, x + reach); ++i)
            if (rows.row(j)[i] < least) least = rows.row(j)[i];
    return least;
}

/// Rows y to `end` restored, one behind the other.
std::vector<float> restored_band(const Before& rows, int y, int end, const std::vector<float>& kernel, float noise,
                                 int near) {
    const int reach = static_cast<int>(kernel.size()) - 1, width = rows.plane.width;
    const auto size = static_cast<std::size_t>(width);
    const int first = std::max(0, y - reach), last = std::min(rows.plane.height, end + reach);
    std::vector<float> across(static_cast<std::size_t>(last - first) * size);
    const auto crossed = [&](int line) { return across.data() + static_cast<std::size_t>(line - first) * size; };
    std::vector<bool> gaps(static_cast<std::size_t>(last - first));
    for (int line = first; line < last; ++line) {
        convolve_row(rows.row(line), width, kernel, crossed(line));
        gaps[static_cast<std::size_t>(line - first)] = any_gap(crossed(line), size);
    }
    const auto whole = [&](int line) {
        return line >= first && line < last && !gaps[static_cast<std::size_t>(line - first)];
    };
    std::vector<float> out(static_cast<std::size_t>(end - y) * size), above(size), below(size);
    for (int line = y; line < end; ++line) {
        float* to = out.data() + static_cast<std::size_t>(line - y) * size;
        const float* own = crossed(line);
        for (std::size_t x = 0; x < size; ++x)
            to[x] = kernel[0] * own[x];
        std::copy_n(own, size, above.begin());
        std::copy_n(own, size, below.begin());
        for (int k = 1; k <= reach; ++k) {
            const float g = kernel[static_cast<std::size_t>(k)];
            const auto follow = [&](std::vector<float>& side, int at) {
                if (at < first || at >= last) return; // what lies before it goes on
                const float* from = crossed(at);
                if (whole(at))
                    std::copy_n(from, size, side.begin());
                else
                    for (std::size_t x = 0; x < size; ++x)
                        if (std::isfinite(from[x])) side[x] = from[x];
            };
            follow(above, line - k);
            follow(below, line + k);
            for (std::size_t x = 0; x < size; ++x)
                to[x] += g * (above[x] + below[x]);
        }
        const float* was = rows.row(line);
        const float most = 3 * noise;
        for (int x = 0; x < width; ++x)
            if (to[x] < was[x] - most) to[x] = std::max(to[x], darkest_around(rows, x, line, near) - most);
    }
    return out;
}

} // namespace

std::vector<float> restoring_kernel(const DrizzleOptions& o, double side) {
    const double own = std::isfinite(side) && side > 0 ? side : 1;
    const Responses responses(o, 1 / (own * o.scale));
    constexpr double kReach = 4; // pixels of a light
    const int reach = std::clamp(static_cast<int>(std::lround(kReach * own * o.scale)), 2, 64);
    std::vector<double> taps;
    double sum = 0;
    for (int k = 0; k <= reach; ++k) {
        const double away = k / (own * o.scale), fade = std::pow(std::cos(0.5 * kPi * k / (reach + 1)), 2);
        taps.push_back(
            fade * responses.integral([&](double f) { return responses.restoring(f) * std::cos(2 * kPi * f * away); }));
        sum += (k > 0 ? 2 : 1) * taps.back();
    }
    std::vector<float> out;
    for (const double tap : taps)
        out.push_back(static_cast<float>(tap / sum));
    return out;
}

double restoring_smoothness(double fwhm) {
    constexpr double kPixel = 0.887; // FWHM of a Gaussian that blurs half as high as a square of one pixel
    constexpr double kNarrowest = 1;
    const double optics = std::max(0.0, fwhm * fwhm - kPixel * kPixel);
    return fwhm > 0 ? std::sqrt(std::max(0.0, kNarrowest * kNarrowest - optics)) : 0;
}

double restored_fwhm(double fwhm, const DrizzleOptions& o) {
    if (!(fwhm > 0)) return 0;
    const Responses r(o, 1 / o.scale);
    const auto profile = [&](double x) {
        return r.integral([&](double f) {
            return gaussian_response(fwhm, f) * r.of_drops(f) * r.restoring(f) * std::cos(2 * kPi * f * x);
        });
    };
    const double half = profile(0) / 2;
    double near = 0, far = 2 * fwhm + 2;
    for (int k = 0; k < 40; ++k) {
        const double middle = 0.5 * (near + far);
        (profile(middle) > half ? near : far) = middle;
    }
    return near + far;
}

double restoring_cost(double fwhm, const DrizzleOptions& o) {
    if (!(fwhm > 0)) return 0;
    const double wide = restored_fwhm(fwhm, o);
    const Responses r(o, 1 / o.scale);
    const auto squares = [&](bool restored) {
        return r.integral([&](double f) {
            return std::pow(gaussian_response(wide, f) * r.of_drops(f) * (restored ? r.restoring(f) : 1), 2);
        });
    };
    return squares(true) / squares(false) - 1; // along both sides
}

void restore(View<float> plane, const std::vector<float>& kernel, double noise, int near, const Context& context) {
    const int reach = static_cast<int>(kernel.size()) - 1;
    const int at_once = kBand * context.workers.threads();
    Before rows{plane, 0, {}};
    for (int begin = 0; begin < plane.height; begin += at_once) {
        rows.begin = begin;
        const int end = std::min(plane.height, begin + at_once);
        const auto bands = static_cast<std::size_t>((end - begin + kBand - 1) / kBand);
        std::vector<std::vector<float>> done(bands);
        context.workers.for_each(bands, [&](std::size_t b) {
            const int y = begin + static_cast<int>(b) * kBand;
            done[b] = restored_band(rows, y, std::min(end, y + kBand), kernel, static_cast<float>(noise), near);
        });
        std::vector<std::vector<float>> kept;
        for (int k = 0; k < std::max(reach, near) && end - 1 - k >= 0; ++k) {
            const float* row = rows.row(end - 1 - k);
            kept.emplace_back(row, row + plane.width);
        }
        for (std::size_t b = 0; b < bands; ++b)
            std::copy(done[b].begin(), done[b].end(), plane.row(begin + static_cast<int>(b) * kBand));
        rows.kept = std::move(kept);
    }
}

} // namespace kasane
