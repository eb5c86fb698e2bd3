#include <kasane/grading/frame_noise.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

namespace {

/// Means of 1 / flat and of its square over the pixels of one colour, by columns of cells.
struct FlatMeans {
    double inverse = 1, inverse2 = 1;
};

/// Along one row of cells; from a few of the sensor's rows, which hold all colours.
std::vector<FlatMeans> flat_means(const CalibratedView& source, const Region& band, int colour, int cells, int cell) {
    const CalibrationSet& set = source.calibration();
    const int period = std::max(1, set.cfa.period());
    std::vector<FlatMeans> out(static_cast<std::size_t>(cells));
    std::vector<double> count(out.size());
    const int plane = source.planes() == 1 ? 0 : colour;
    Image row(band.width, 1);
    const float level = set.flat_level[static_cast<std::size_t>(source.planes() == 1 ? set.cfa.colour(0, 0) : colour)];
    for (int k = 0; k < period; ++k) {
        const int y = std::min(band.y + band.height / 2 + k, source.height() - 1);
        set.flat->read({0, y, band.width, 1}, row.plane(), plane);
        for (int x = 0; x < band.width; ++x) {
            const bool mosaic = !set.cfa.empty();
            if (mosaic && set.cfa.colour(x, y) != colour) continue;
            const double f = row(x, 0) / (mosaic ? set.flat_level[static_cast<std::size_t>(colour)] : level);
            constexpr double kLeast = 0.02; // darker pixels are defects
            if (!(f > kLeast)) continue;
            const auto at = static_cast<std::size_t>(std::min(x / cell, cells - 1));
            FlatMeans& m = out[at];
            if (count[at]++ == 0) m = {0, 0};
            m.inverse += 1 / f;
            m.inverse2 += 1 / (f * f);
        }
    }
    for (std::size_t i = 0; i < out.size(); ++i)
        if (count[i] > 0) {
            out[i].inverse /= count[i];
            out[i].inverse2 /= count[i];
        }
    return out;
}

/// Mean of 1 / n over the pixels of a grid that are means of n samples of a colour.
double averaging(const FrameView& view, int plane) {
    const CfaPattern& cfa = view.source().calibration().cfa;
    const int cell = view.cell();
    if (cell == 1) return 1;
    double sum = 0, count = 0;
    for (int j = 0; j < cfa.period(); j += cell)
        for (int i = 0; i < cfa.period(); i += cell) {
            int n = 0;
            for (int y = 0; y < cell; ++y)
                for (int x = 0; x < cell; ++x)
                    n += cfa.colour(i + x, j + y) == view.colour(plane);
            if (n == 0) continue;
            sum += 1.0 / n;
            ++count;
        }
    return count > 0 ? sum / count : 1;
}

} // namespace

std::string SensorNoise::check() const {
    const bool sound = electrons_per_adu >= 0 && dark_variance >= 0 && subtracted_variance >= 0 && flat_noise >= 0;
    return sound ? std::string{} : "the noise of a sensor, and its electrons per ADU, are not below 0";
}

ExpectedNoise expected_noise(const FrameView& view, int plane, const Background& b, const SensorNoise& sensor) {
    ExpectedNoise out;
    if (!sensor.known()) return out;
    const CalibratedView& source = view.source();
    const int nx = b.level.width(), ny = b.level.height(), side = b.cell * view.cell();
    const double fixed = sensor.dark_variance + sensor.subtracted_variance, n2 = sensor.flat_noise * sensor.flat_noise;
    std::vector<float> variances, shares;
    std::vector<FlatMeans> means(static_cast<std::size_t>(nx));
    for (int j = 0; j < ny; ++j) {
        const int y = j * side;
        if (source.calibration().flat)
            means = flat_means(source, {0, y, source.width(), std::min(side, source.height() - y)}, view.colour(plane),
                               nx, side);
        for (int i = 0; i < nx; ++i) {
            const double level = std::max(0.0f, b.level(i, j));
            const auto [m1, m2] = means[static_cast<std::size_t>(i)];
            const double light = level * m1 / sensor.electrons_per_adu + fixed * m2, flat = level * level * n2 * m1;
            if (!std::isfinite(light + flat)) continue;
            variances.push_back(static_cast<float>(light + flat));
            shares.push_back(static_cast<float>(std::sqrt(1 + flat / light) - 1));
        }
    }
    if (variances.empty()) return out;
    out.sigma = std::sqrt(median_in_place(variances) * averaging(view, plane));
    out.flat_share = source.calibration().flat ? median_in_place(shares) : 0;
    return out;
}

FrameNoise settle_noise(double expected, const Background& b) {
    constexpr double kSlack = 0.03; // of the gain, and of both measures
    const double pixels = b.global_sigma;
    const bool agree = expected > 0 && expected < (1 + kSlack) * pixels &&
                       expected > (1 - kSlack) * pixels / std::max(1.0f, b.texture);
    return agree ? FrameNoise{expected, true} : FrameNoise{pixels, false};
}

} // namespace kasane
