#include <kasane/finishing/colour.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/composite.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>

namespace kasane {

namespace {

void by_rows(const Image& image, const Workers& workers, const std::function<void(int)>& row) {
    workers.for_each(static_cast<std::size_t>(image.height()), [&](std::size_t y) { row(static_cast<int>(y)); });
}

} // namespace

Image mix(const std::vector<ColourChannel>& channels, const Palette& palette, std::array<double, 3>& noise,
          const Workers& workers) {
    struct Term {
        const ColourChannel* channel;
        float factor;
    };
    std::array<std::vector<Term>, 3> sums;
    for (std::size_t c = 0; c < 3; ++c) {
        if (palette.colours[c].empty())
            throw UsageError(fmt::format("the palette says nothing of {}", kColourNames[c]), {},
                             "Name channels for red, green and blue");
        double squares = 0;
        for (const auto& [name, factor] : palette.colours[c]) {
            const auto at = std::find_if(channels.begin(), channels.end(),
                                         [n = name](const ColourChannel& ch) { return ch.name == n; });
            if (at == channels.end()) {
                std::vector<std::string> there;
                for (const ColourChannel& ch : channels)
                    there.push_back(ch.name);
                throw UsageError(fmt::format("the palette names {}, of which there is no master light", name), {},
                                 fmt::format("There are {}", fmt::join(there, ", ")));
            }
            sums[c].push_back({&*at, static_cast<float>(factor)});
            squares += std::pow(factor * at->noise, 2);
        }
        noise[c] = std::sqrt(squares);
    }
    const View<const float> first = sums[0].front().channel->pixels;
    Image out(first.width, first.height, 3);
    by_rows(out, workers, [&](int y) {
        for (int c = 0; c < 3; ++c) {
            float* row = out.plane(c).row(y);
            for (const Term& t : sums[static_cast<std::size_t>(c)]) {
                const float* from = t.channel->pixels.row(y);
                const auto sky = static_cast<float>(t.channel->sky);
                for (int x = 0; x < out.width(); ++x)
                    row[x] += t.factor * (from[x] - sky);
            }
        }
    });
    return out;
}

WhiteBalance white_balance(const Image& image, const StarList& stars, const WhiteChoice& choice) {
    WhiteBalance out;
    if (choice.by == WhiteChoice::By::given) {
        out.factors = choice.factors;
        out.text = "as given";
        return out;
    }
    if (choice.by == WhiteChoice::By::region) {
        const Region r = intersect(choice.region, image.bounds());
        if (r.empty() || r != choice.region)
            throw UsageError("the region that is white lies outside the picture", {},
                             fmt::format("The picture has {} x {} pixels", image.width(), image.height()));
        std::array<double, 3> light{};
        for (int c = 0; c < 3; ++c) {
            std::vector<float> values = sample_pixels(image.plane(c).crop(r), 400000);
            light[static_cast<std::size_t>(c)] = static_cast<double>(clipped_statistics(values).location);
        }
        out.text = "by the light of a region";
        out.told = light[0] > 0 && light[1] > 0 && light[2] > 0;
        if (out.told)
            out.factors = {light[1] / light[0], 1, light[1] / light[2]};
        else
            out.text = "not told: the region is no brighter than the sky in all three colours";
        return out;
    }
    const double red = flux_ratio(image.plane(1), stars, image.plane(0)),
                 blue = flux_ratio(image.plane(1), stars, image.plane(2));
    out.told = red > 0 && blue > 0;
    out.text =
        out.told ? "by the average star" : "not told: fewer than five stars are well measured in all three colours";
    if (out.told) out.factors = {red, 1, blue};
    return out;
}

void multiply(Image& image, const std::array<double, 3>& factors, const Workers& workers) {
    by_rows(image, workers, [&](int y) {
        for (int c = 0; c < image.planes(); ++c) {
            const auto factor = static_cast<float>(factors[static_cast<std::size_t>(c)]);
            float* row = image.plane(c).row(y);
            for (int x = 0; x < image.width(); ++x)
                row[x] *= factor;
        }
    });
}

Image brightness(const Image& image, const Workers& workers) {
    Image out(image.width(), image.height());
    by_rows(out, workers, [&](int y) {
        for (int x = 0; x < out.width(); ++x)
            out(x, y) = (image(x, y, 0) + image(x, y, 1) + image(x, y, 2)) / 3;
    });
    return out;
}

LuminanceGain put_luminance(Image& image, const ColourChannel& channel, double factor, std::array<double, 3>& noise,
                            const Workers& workers) {
    LuminanceGain gain;
    gain.factor = factor;
    gain.noise_before = std::sqrt(noise[0] * noise[0] + noise[1] * noise[1] + noise[2] * noise[2]) / 3;
    const double own = gain.noise_before * gain.noise_before, better = std::pow(factor * channel.noise, 2);
    gain.weight = better > 0 ? own / (own + better) : 1;
    gain.noise = std::sqrt(gain.weight * gain.weight * better + (1 - gain.weight) * (1 - gain.weight) * own);
    constexpr double kInNoise = 4; // sigma of brightness: from there on rather a factor than a sum
    const auto faint = static_cast<float>(std::pow(kInNoise * gain.noise_before, 2));
    const auto weight = static_cast<float>(gain.weight), f = static_cast<float>(factor),
               sky = static_cast<float>(channel.sky);
    by_rows(image, workers, [&](int y) {
        const float* other = channel.pixels.row(y);
        for (int x = 0; x < image.width(); ++x) {
            const float before = (image(x, y, 0) + image(x, y, 1) + image(x, y, 2)) / 3;
            const float light = f * (other[x] - sky);
            if (!std::isfinite(light) || !std::isfinite(before)) continue;
            const float after = weight * light + (1 - weight) * before;
            const float bright = std::max(0.0f, before),
                        as_factor = bright > 0 ? bright * bright / (bright * bright + faint) : 0;
            const float times = as_factor * (bright > 0 ? after / bright : 1),
                        more = (1 - as_factor) * (after - before);
            for (int c = 0; c < 3; ++c)
                image(x, y, c) = image(x, y, c) * (times + 1 - as_factor) + more;
        }
    });
    for (double& n : noise) // what of it is brightness changes, what is colour stays
        n = std::sqrt(std::max(0.0, n * n - own) + gain.noise * gain.noise);
    return gain;
}

} // namespace kasane
