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
constexpr int kBand = 32;       // rows

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

/// The longest span of a row without gaps, where it has any.
struct Span {
    int begin = 0, end = 0;
};

Span whole_span(const float* row, int width) {
    if (!any_gap(row, static_cast<std::size_t>(width))) return {0, width};
    Span longest, here;
    for (int x = 0; x <= width; ++x)
        if (x == width || !std::isfinite(row[x])) {
            here.end = x;
            if (here.end - here.begin > longest.end - longest.begin) longest = here;
            here.begin = x + 1;
        }
    return longest;
}

/// Along one side, at one place: what lies behind the ends, and in gaps, counts as what lies before it, seen from the
/// middle. `at(k)` is null behind an end.
template <class At>
float symmetric_sum(const std::vector<float>& kernel, At at) {
    const float middle = *at(0);
    if (!std::isfinite(middle)) return middle;
    float before = middle, after = middle, sum = kernel[0] * middle;
    for (int k = 1; k < static_cast<int>(kernel.size()); ++k) {
        if (const float* v = at(-k); v && std::isfinite(*v)) before = *v;
        if (const float* v = at(k); v && std::isfinite(*v)) after = *v;
        sum += kernel[static_cast<std::size_t>(k)] * (before + after);
    }
    return sum;
}

/// All of a row: `fast` from there to there, the rest by `one`.
template <class Fast, class One>
void by_spans(int width, Span s, Fast fast, One one) {
    if (s.end <= s.begin) s = {0, 0};
    for (int x = 0; x < s.begin; ++x)
        one(x);
    if (s.begin < s.end) fast(s.begin, static_cast<std::size_t>(s.end - s.begin));
    for (int x = s.end; x < width; ++x)
        one(x);
}

void convolve_row(const float* row, int width, const std::vector<float>& kernel, float* out) {
    const int reach = static_cast<int>(kernel.size()) - 1;
    const Span whole = whole_span(row, width);
    std::vector<const float*> before, after;
    const auto fast = [&](int x, std::size_t count) {
        for (int k = 1; k <= reach; ++k)
            before.push_back(row + x - k), after.push_back(row + x + k);
        symmetric_row(out + x, row + x, before.data(), after.data(), kernel.data(), kernel.size(), count);
    };
    by_spans(width, {whole.begin + reach, whole.end - reach}, fast, [&](int x) {
        out[x] = symmetric_sum(kernel, [&](int k) { return x + k >= 0 && x + k < width ? row + x + k : nullptr; });
    });
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

/// Some rows on their way, one behind the other.
struct Band {
    std::vector<float> across; ///< along their own direction, and those around that are needed
    std::vector<float> out;
};

/// Rows y to `end`.
void restore_band(const Before& rows, int y, int end, const std::vector<float>& kernel, float noise, int near,
                  Band& band) {
    const int reach = static_cast<int>(kernel.size()) - 1, width = rows.plane.width;
    const auto size = static_cast<std::size_t>(width);
    const int first = std::max(0, y - reach), last = std::min(rows.plane.height, end + reach);
    band.across.resize(static_cast<std::size_t>(last - first) * size);
    const auto crossed = [&](int line) { return band.across.data() + static_cast<std::size_t>(line - first) * size; };
    std::vector<Span> whole;
    for (int line = first; line < last; ++line) {
        convolve_row(rows.row(line), width, kernel, crossed(line));
        whole.push_back(whole_span(crossed(line), width));
    }
    band.out.resize(static_cast<std::size_t>(end - y) * size);
    std::vector<const float*> above, below;
    for (int line = y; line < end; ++line) {
        float* to = band.out.data() + static_cast<std::size_t>(line - y) * size;
        Span common{0, line - reach < first || line + reach >= last ? 0 : width}; // beyond an end rows lack
        for (int k = -reach; k <= reach && common.end > common.begin; ++k) {
            const Span& s = whole[static_cast<std::size_t>(line + k - first)];
            common = {std::max(common.begin, s.begin), std::min(common.end, s.end)};
        }
        const auto fast = [&](int x, std::size_t count) {
            above.clear(), below.clear();
            for (int k = 1; k <= reach; ++k)
                above.push_back(crossed(line - k) + x), below.push_back(crossed(line + k) + x);
            symmetric_row(to + x, crossed(line) + x, above.data(), below.data(), kernel.data(), kernel.size(), count);
        };
        by_spans(width, common, fast, [&](int x) {
            to[x] = symmetric_sum(
                kernel, [&](int k) { return line + k >= first && line + k < last ? crossed(line + k) + x : nullptr; });
        });
        const float* was = rows.row(line);
        const float most = 3 * noise;
        for (int x = 0; x < width; ++x)
            if (to[x] < was[x] - most) to[x] = std::max(to[x], darkest_around(rows, x, line, near) - most);
    }
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
    return width_at_half(profile, 2 * fwhm + 2);
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
    std::vector<Band> bands(static_cast<std::size_t>(context.workers.threads()));
    std::vector<std::vector<float>> kept;
    for (int begin = 0; begin < plane.height; begin += at_once) {
        rows.begin = begin;
        const int end = std::min(plane.height, begin + at_once);
        const auto count = static_cast<std::size_t>((end - begin + kBand - 1) / kBand);
        const auto first = [&](std::size_t b) { return begin + static_cast<int>(b) * kBand; };
        context.workers.for_each(count, [&](std::size_t b) {
            restore_band(rows, first(b), std::min(end, first(b) + kBand), kernel, static_cast<float>(noise), near,
                         bands[b]);
        });
        kept.resize(static_cast<std::size_t>(std::min(end, std::max(reach, near))));
        for (std::size_t k = 0; k < kept.size(); ++k) {
            const float* row = rows.row(end - 1 - static_cast<int>(k));
            kept[k].assign(row, row + plane.width);
        }
        context.workers.for_each(
            count, [&](std::size_t b) { std::copy(bands[b].out.begin(), bands[b].out.end(), plane.row(first(b))); });
        rows.kept.swap(kept);
    }
}

} // namespace kasane
