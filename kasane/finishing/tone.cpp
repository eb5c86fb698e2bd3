#include <kasane/finishing/tone.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

std::string ToneOptions::check() const {
    if (!(sky > 0.005 && sky <= 0.6)) return "the sky is shown at 0.005 to 0.6 of white";
    if (!(black >= 0 && black <= 100)) return "black lies 0 to 100 sigma below the sky";
    return {};
}

std::vector<Stretch> choose_tone(const Image& image, const std::vector<double>& sky, const std::vector<double>& noise,
                                 const ToneOptions& options) {
    std::vector<Stretch> out;
    for (int p = 0; p < image.planes(); ++p) {
        const auto plane = static_cast<std::size_t>(p);
        Stretch s;
        s.black = static_cast<float>(sky[plane] - options.black * noise[plane]);
        constexpr std::size_t kSample = 400000;
        constexpr double kBelowWhite = 0.9995; // of the pixels
        std::vector<float> values = sample_pixels(image.plane(p), kSample);
        s.white = values.empty() ? s.black + 1 : quantile_in_place(values, kBelowWhite);
        const auto least = static_cast<float>(10 * std::max(noise[plane], 1e-6 * std::abs(sky[plane]) + 1e-9));
        s.white = std::max(s.white, s.black + least);
        // The strength that shows the sky as it is wanted, by bisection on its logarithm (monotone).
        double low = 1e-3, high = 1e9;
        for (int i = 0; i < 100; ++i) {
            s.strength = static_cast<float>(std::sqrt(low * high));
            (static_cast<double>(s(static_cast<float>(sky[plane]))) < options.sky ? low : high) = s.strength;
        }
        out.push_back(s);
    }
    if (options.linked && image.planes() == 3)
        for (Stretch& s : out)
            s.white = s.black + (out[1].white - out[1].black), s.strength = out[1].strength;
    return out;
}

double apply_tone(Image& image, const std::vector<Stretch>& curves, bool linked, const Workers& workers) {
    const bool colours = image.planes() == 3 && linked;
    std::vector<std::int64_t> beyond(static_cast<std::size_t>(image.height()));
    workers.for_each(beyond.size(), [&](std::size_t j) {
        const auto y = static_cast<int>(j);
        for (int x = 0; x < image.width(); ++x) {
            if (!colours) {
                bool over = false;
                for (int p = 0; p < image.planes(); ++p) {
                    float& v = image(x, y, p);
                    over = over || v > curves[static_cast<std::size_t>(p)].white;
                    v = std::isfinite(v) ? curves[static_cast<std::size_t>(p)](v) : 0;
                }
                beyond[j] += over;
                continue;
            }
            float light[3], mean = 0, most = 0;
            for (int p = 0; p < 3; ++p) {
                light[p] = std::max(0.0f, image(x, y, p) - curves[static_cast<std::size_t>(p)].black);
                if (!std::isfinite(light[p])) light[p] = 0;
                mean += light[p] / 3;
            }
            const Stretch& curve = curves[1];
            beyond[j] += mean > curve.white - curve.black;
            const float gain = mean > 0 ? curve(curve.black + mean) / mean : 0;
            for (float& v : light)
                v *= gain, most = std::max(most, v);
            constexpr float kWhitest = 0.6f, kFar = 0.5f;
            const float to_white = kWhitest * std::clamp((most - 1) / kFar, 0.0f, 1.0f);
            for (int p = 0; p < 3; ++p)
                image(x, y, p) = most > 1 ? light[p] / most + to_white * (1 - light[p] / most) : light[p];
        }
    });
    const auto all = std::accumulate(beyond.begin(), beyond.end(), std::int64_t{0});
    return image.empty() ? 0 : static_cast<double>(all) / static_cast<double>(image.bounds().area());
}

} // namespace kasane
