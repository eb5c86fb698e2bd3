#include <kasane/finishing/deconvolution.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

namespace {

void subtract(const Image& from, const Image& what, Image& out) {
    const float *a = from.pixels().data(), *b = what.pixels().data();
    float* to = out.pixels().data();
    for (std::size_t i = 0; i < out.pixels().size(); ++i)
        to[i] = a[i] - b[i];
}

/// Wavelets of an image, scale by scale, and what is left at last in `rest`.
template <class Each>
void by_scales(const Image& image, Image& rest, Image& smooth, Image& wavelet, std::vector<float>& rows, Each each) {
    std::copy_n(image.pixels().data(), image.pixels().size(), rest.pixels().data());
    for (std::size_t s = 0; s < kWaveletScales; ++s) {
        spline_mean(rest, 1 << s, smooth, rows);
        subtract(rest, smooth, wavelet);
        each(s, wavelet);
        std::swap(rest, smooth);
    }
}

SeparableKernel gaussian_mean(double fwhm) {
    const double sigma = fwhm / kFwhmPerSigma;
    const int reach = std::max(2, static_cast<int>(std::ceil(2.5 * sigma)));
    Image out(2 * reach + 1, 2 * reach + 1);
    double sum = 0;
    for (int j = -reach; j <= reach; ++j)
        for (int i = -reach; i <= reach; ++i) {
            const double v = std::exp(-0.5 * (i * i + j * j) / (sigma * sigma));
            out(i + reach, j + reach) = static_cast<float>(v), sum += v;
        }
    for (float& v : out.pixels())
        v = static_cast<float>(static_cast<double>(v) / sum);
    return SeparableKernel(out);
}

double sum_of(const Image& image) {
    double sum = 0;
    for (const float v : image.pixels())
        sum += static_cast<double>(v);
    return sum;
}

} // namespace

Image blur_between(const Image& narrow, const Image& wide, int most) {
    constexpr int kRounds = 300;
    constexpr double kKept = 0.99;
    const SeparableKernel forward(narrow), back = forward.turned();
    Image kernel = wide, seen(wide.width(), wide.height()), ratio(wide.width(), wide.height());
    std::vector<float> rows;
    for (int round = 0; round < kRounds; ++round) {
        forward.apply(kernel, seen, rows);
        for (std::size_t i = 0; i < seen.pixels().size(); ++i)
            ratio.pixels()[i] = wide.pixels()[i] / std::max(1e-9f, seen.pixels()[i]);
        back.apply(ratio, seen, rows);
        for (std::size_t i = 0; i < seen.pixels().size(); ++i)
            kernel.pixels()[i] *= std::max(0.0f, seen.pixels()[i]);
    }
    const double all = sum_of(kernel);
    const int middle = kernel.width() / 2;
    for (int reach = 1;; ++reach) {
        Image out(2 * reach + 1, 2 * reach + 1);
        for (int j = -reach; j <= reach; ++j)
            for (int i = -reach; i <= reach; ++i)
                out(i + reach, j + reach) = kernel(middle + i, middle + j);
        const double sum = sum_of(out);
        if (sum < kKept * all && reach < std::min(most, middle)) continue;
        for (float& v : out.pixels())
            v = static_cast<float>(static_cast<double>(v) / sum);
        return out;
    }
}

std::array<double, kWaveletScales> wavelet_noise(const Image& image) {
    std::array<double, kWaveletScales> out{};
    Image rest(image.width(), image.height()), smooth = rest, wavelet = rest;
    std::vector<float> rows, values;
    by_scales(image, rest, smooth, wavelet, rows, [&](std::size_t s, const Image& w) {
        values.assign(w.pixels().begin(), w.pixels().end());
        out[s] = static_cast<double>(mad_sigma_in_place(values, 0));
    });
    return out;
}

void find_trust(DeconvolutionTile& tile, const std::array<double, kWaveletScales>& noise) {
    // Of pure noise the variance around a place scatters: what may be so is no signal.
    constexpr float kMayBe = 2.2f, kMostSaid = 30;
    constexpr float kNotKnown = 0.1f; // of the light of a star, spread over its surroundings: what its shape may be off
    Image rest(tile.data.width(), tile.data.height()), smooth = rest, wavelet = rest, around = rest;
    std::vector<float> rows;
    by_scales(tile.data, rest, smooth, wavelet, rows, [&](std::size_t s, Image& w) {
        const auto unit = static_cast<float>(1 / std::max(1e-30, noise[s] * noise[s]));
        // Bright pixels scatter as their photons do, and no star is quite as foretold; the core of a star does not
        // speak for all around it.
        for (std::size_t i = 0; i < w.pixels().size(); ++i) {
            const float photons = std::max(1.0f, tile.data.pixels()[i] / tile.pedestal),
                        shape = kNotKnown * tile.star_light.pixels()[i];
            w.pixels()[i] = std::min(kMostSaid, w.pixels()[i] * w.pixels()[i] / (photons / unit + shape * shape));
        }
        spline_mean(w, 1 << s, around, rows);
        spline_mean(around, 2 << s, w, rows);
        for (float& v : w.pixels())
            v = std::max(0.0f, 1 - kMayBe / std::max(1e-30f, v));
        tile.trust[s] = w;
    });
}

void find_floor(DeconvolutionTile& tile, double fwhm, double target, double noise) {
    const int width = tile.data.width(), height = tile.data.height();
    Image smooth(width, height);
    std::vector<float> rows;
    gaussian_mean(fwhm).apply(tile.data, smooth, rows);
    tile.mean = gaussian_mean(target);
    Image envelope = smooth;
    constexpr double kAround = 1.5; // FWHM
    spread(envelope, std::max(2, static_cast<int>(std::lround(kAround * fwhm))), -1);
    // Where stars reach: the farther the brighter.
    struct Step {
        float above;  ///< sigma
        double reach; ///< FWHM
    };
    constexpr Step kSteps[] = {{3, 1.5}, {20, 2.5}, {150, 3.5}};
    Image near(width, height);
    for (const Step& step : kSteps) {
        Image here(width, height);
        for (std::size_t i = 0; i < here.pixels().size(); ++i)
            here.pixels()[i] =
                smooth.pixels()[i] - envelope.pixels()[i] > step.above * static_cast<float>(noise) ? 1.0f : 0.0f;
        spread(here, static_cast<int>(std::lround(step.reach * fwhm)), 1);
        for (std::size_t i = 0; i < near.pixels().size(); ++i)
            near.pixels()[i] = std::max(near.pixels()[i], here.pixels()[i]);
    }
    // Of noise alone the darkest lies below the sky by some deviations of that mean.
    constexpr double kDeviations = 1.5;
    const auto darker = static_cast<float>(kDeviations * noise * kFwhmPerSigma / (2 * std::sqrt(kPi) * fwhm));
    for (float& v : envelope.pixels())
        v += darker;
    tile.star_light = Image(width, height);
    Image above(width, height);
    for (std::size_t i = 0; i < above.pixels().size(); ++i)
        above.pixels()[i] = std::max(0.0f, smooth.pixels()[i] - envelope.pixels()[i]);
    gaussian_mean(2 * fwhm).apply(above, tile.star_light, rows);
    tile.floor = Image(width, height), tile.wall = Image(width, height);
    for (std::size_t i = 0; i < near.pixels().size(); ++i) {
        if (near.pixels()[i] > 0) tile.floor.pixels()[i] = envelope.pixels()[i];
        if (smooth.pixels()[i] - envelope.pixels()[i] > 0.5f * static_cast<float>(noise))
            tile.wall.pixels()[i] = envelope.pixels()[i];
    }
}

Deconvolution::Deconvolution(const DeconvolutionTile& tile)
    : tile_(tile), forward_(tile.blur.turned()), now_(tile.data), seen_(tile.data.width(), tile.data.height()),
      residual_(seen_), rest_(seen_), smooth_(seen_), wavelet_(seen_) {}

const Image& Deconvolution::residual() {
    forward_.apply(now_, seen_, rows_);
    subtract(tile_.data, seen_, residual_);
    if (!tile_.gap.empty())
        for (std::size_t i = 0; i < residual_.pixels().size(); ++i)
            if (tile_.gap.pixels()[i]) residual_.pixels()[i] = 0;
    return residual_;
}

void Deconvolution::step() {
    constexpr float kFaster = 1.7f; // below 2 it still ends in the same
    const std::size_t count = now_.pixels().size();
    // What is no noise of the residual, in units of what is shown.
    float* trusted = residual_.pixels().data();
    by_scales(residual_, rest_, smooth_, wavelet_, rows_, [&](std::size_t s, const Image& w) {
        const float *share = tile_.trust[s].pixels().data(), *value = w.pixels().data();
        if (s == 0)
            for (std::size_t i = 0; i < count; ++i)
                trusted[i] = share[i] * value[i];
        else
            for (std::size_t i = 0; i < count; ++i)
                trusted[i] += share[i] * value[i];
    });
    const float *shown = seen_.pixels().data(), *data = tile_.data.pixels().data(), *rest = rest_.pixels().data();
    for (std::size_t i = 0; i < count; ++i)
        trusted[i] = (trusted[i] + rest[i]) / std::max(shown[i], 1e-3f * data[i]);
    tile_.blur.apply(residual_, seen_, rows_); // it correlates, as what is turned convolves
    float* pixels = now_.pixels().data();
    const float *factor = seen_.pixels().data(), *least = tile_.wall.pixels().data();
    for (std::size_t i = 0; i < count; ++i)
        pixels[i] = std::max(least[i], pixels[i] * std::max(0.1f, 1 + kFaster * factor[i]));
    lift();
}

/// By means as wide as the stars are now, so that noise is not what is lifted.
void Deconvolution::lift() {
    tile_.mean.apply(now_, seen_, rows_);
    for (std::size_t i = 0; i < now_.pixels().size(); ++i)
        now_.pixels()[i] += std::max(0.0f, tile_.floor.pixels()[i] - seen_.pixels()[i]);
}

Image Deconvolution::finish() {
    constexpr int kLast = 3; // nothing takes it down again
    for (int k = 0; k < kLast; ++k)
        lift();
    return std::move(now_);
}

} // namespace kasane
