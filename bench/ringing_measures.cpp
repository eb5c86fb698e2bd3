// F11: how far resampling rings around stars, without noise, in units of the noise that their frame would have.
#include "fidelity_measures.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/integrate.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

constexpr int kSide = 240;
constexpr double kSky = 500;

/// Stars of one brightness at all places between pixels, each pixel the mean of a Gaussian over it.
Image stars(double peak, double fwhm) {
    Image image(kSide, kSide, 1, static_cast<float>(kSky));
    const double width = fwhm / kFwhmPerSigma * std::sqrt(2.0);
    const auto part = [&](double from) {
        return 0.5 * (std::erf((from + 0.5) / width) - std::erf((from - 0.5) / width));
    };
    const double flux = peak * kPi * width * width;
    for (int j = 0; j < 6; ++j)
        for (int i = 0; i < 6; ++i) {
            const double x = 30 + 36.17 * i, y = 30 + 36.17 * j;
            for (int v = std::max(0, static_cast<int>(y) - 18); v < std::min(kSide, static_cast<int>(y) + 19); ++v)
                for (int u = std::max(0, static_cast<int>(x) - 18); u < std::min(kSide, static_cast<int>(x) + 19); ++u)
                    image(u, v) += static_cast<float>(flux * part(u - x) * part(v - y));
        }
    return image;
}

} // namespace

std::vector<Figure> ringing(const Context& context) {
    std::vector<Figure> out;
    for (const double fwhm : {1.3, 1.5, 2.0, 3.0}) {
        double worst = 0;
        for (const double peak : {5.0, 10.0, 15.0, 20.0, 30.0, 60.0, 100.0, 300.0, 1000.0, 3000.0})
            for (const double angle : {0.0, 0.7, 30.0}) {
                const double c = std::cos(radians(angle)), s = std::sin(radians(angle)), m = 0.5 * (kSide - 1);
                const Affine turn{c, s, m - c * m - s * m + 0.5, -s, c, m + s * m - c * m + 0.43};
                IntegrateOptions options;
                options.rejection = NoRejection{};
                const MasterLight light = integrate(
                    {{std::make_shared<const ImagePlanes>(stars(peak, fwhm)), {{Transform(turn), {}, 1.0}}, 0}},
                    reference_canvas(kSide, kSide), {kSky}, context, options);
                for (int y = 40; y < kSide - 40; ++y)
                    for (int x = 40; x < kSide - 40; ++x)
                        worst = std::max(worst, kSky - static_cast<double>(light.pixels(x, y)));
            }
        out.push_back({"F11", fmt::format("undershoot around stars, FWHM {:g} px, peaks of 5 to 3000 sigma", fwhm),
                       worst, "sigma of a frame", 0.5});
    }
    return out;
}

} // namespace kasane::bench
