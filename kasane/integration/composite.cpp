#include <kasane/integration/composite.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane {

Composite::Composite(int width, int height) : sum_(width, height, 1), weight_(width, height, 1) {}

void Composite::add(View<const float> pixels, View<const float> coverage, const CompositePart& part) {
    if (pixels.width != sum_.width() || pixels.height != sum_.height() || coverage.width != sum_.width() ||
        coverage.height != sum_.height())
        throw UsageError(fmt::format("an image of {} x {} pixels does not fit the others of {} x {}", pixels.width,
                                     pixels.height, sum_.width(), sum_.height()),
                         {}, "Put all onto one canvas");
    whole_ += part.weight;
    background_ += part.weight * part.factor * part.background;
    const auto factor = static_cast<float>(part.factor), offset = static_cast<float>(-part.factor * part.background),
               weight = static_cast<float>(part.weight);
    for (int y = 0; y < pixels.height; ++y) {
        const float *from = pixels.row(y), *covered = coverage.row(y);
        float *sum = sum_.plane().row(y), *weights = weight_.plane().row(y);
        for (int x = 0; x < pixels.width; ++x) {
            const float w = weight * covered[x];
            if (!(w > 0) || std::isnan(from[x])) continue;
            sum[x] += w * (factor * from[x] + offset);
            weights[x] += w;
        }
    }
}

CompositeImage Composite::finish() const {
    CompositeImage out{Image(sum_.width(), sum_.height(), 1, kNoData), Image(sum_.width(), sum_.height(), 1)};
    const auto background = static_cast<float>(whole_ > 0 ? background_ / whole_ : 0);
    const auto share = static_cast<float>(whole_ > 0 ? 1 / whole_ : 0);
    for (int y = 0; y < sum_.height(); ++y)
        for (int x = 0; x < sum_.width(); ++x) {
            const float w = weight_(x, y);
            if (!(w > 0)) continue;
            out.pixels(x, y) = sum_(x, y) / w + background;
            out.coverage(x, y) = w * share;
        }
    return out;
}

double flux_ratio(View<const float> image, const StarList& stars, View<const float> other) {
    std::vector<Star> here = stars.stars, there = stars.stars;
    measure_fluxes(image, measure_background(image), stars.fwhm, {}, here);
    measure_fluxes(other, measure_background(other), stars.fwhm, {}, there);
    std::vector<float> ratios;
    constexpr double kLeastSnr = 20;
    constexpr std::size_t kLeastStars = 5;
    for (std::size_t i = 0; i < here.size(); ++i) {
        const Star &a = here[i], &b = there[i];
        if (!a.saturated && !b.saturated && a.flux > kLeastSnr * a.flux_sigma && b.flux > kLeastSnr * b.flux_sigma)
            ratios.push_back(static_cast<float>(a.flux / b.flux));
    }
    return ratios.size() < kLeastStars ? 0 : median_in_place(ratios);
}

} // namespace kasane
