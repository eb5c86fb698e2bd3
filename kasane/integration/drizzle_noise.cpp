// The noise of a drizzled stack: two halves of the frames against each other, in windows of the output.
#include <kasane/integration/drizzle_pass.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

/// Whether a star or the like lies there, or beside it, which the halves may see differently sharp.
bool DrizzlePass::structured(const PlaneVerdict& v, const Region& judged, int x, int y) const {
    if (v.structure.curvature.empty()) return false;
    double u = 0, w = 0;
    to_coarse_.apply(x, y, u, w);
    const int i = static_cast<int>(std::lround(u)) - judged.x, j = static_cast<int>(std::lround(w)) - judged.y;
    for (int b = std::max(0, j - 1); b <= std::min(judged.height - 1, j + 1); ++b)
        for (int a = std::max(0, i - 1); a <= std::min(judged.width - 1, i + 1); ++a)
            if (v.structure.any(static_cast<std::size_t>(b * judged.width + a))) return true;
    return false;
}

/// What the stack that judges shows at a pixel of the output, between its own.
double DrizzlePass::judged_at(const std::vector<float>& mean, const Region& judged, int x, int y) const {
    double u = 0, v = 0;
    to_coarse_.apply(x, y, u, v);
    u = std::clamp(u - judged.x, 0.0, judged.width - 1.0), v = std::clamp(v - judged.y, 0.0, judged.height - 1.0);
    const int i = static_cast<int>(u), j = static_cast<int>(v);
    const int right = std::min(i + 1, judged.width - 1), below = std::min(j + 1, judged.height - 1);
    const auto at = [&](int c, int r) {
        return static_cast<double>(mean[static_cast<std::size_t>(r * judged.width + c)]);
    };
    return (at(i, j) * (1 - (u - i)) + at(right, j) * (u - i)) * (1 - (v - j)) +
           (at(i, below) * (1 - (u - i)) + at(right, below) * (u - i)) * (v - j);
}

/// Means over squares of an image without data here and there.
std::vector<float> DrizzlePass::smoothed(const std::vector<float>& image, const Region& region) {
    constexpr int kReach = 3;
    std::vector<float> out(image.size(), kNoData);
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; ++x) {
            double sum = 0;
            int count = 0;
            for (int j = std::max(0, y - kReach); j <= std::min(region.height - 1, y + kReach); ++j)
                for (int i = std::max(0, x - kReach); i <= std::min(region.width - 1, x + kReach); ++i)
                    if (const float v = image[static_cast<std::size_t>(j * region.width + i)]; std::isfinite(v))
                        sum += static_cast<double>(v), ++count;
            if (count > 0) out[static_cast<std::size_t>(y * region.width + x)] = static_cast<float>(sum / count);
        }
    return out;
}

/// One half less the other where it is flat, in units of what is expected there of the mean of all frames; NaN
/// elsewhere. `usual` becomes by how much more noise there is at the usual brightness of the window.
Image DrizzlePass::window_noise(const Region& window, Scratch& s, std::size_t p, float& usual) const {
    const StackExpectation& e = stack_.combiners[p].expectation();
    double flat = 0, slope = 0; // of the mean's variance
    for (const FrameExpectation& f : e.frames) {
        flat += static_cast<double>(f.weight) * f.weight * f.variance;
        slope += static_cast<double>(f.weight) * f.weight * f.variance_slope;
    }
    const Halves sums = halves(s, p);
    // Not the pixels themselves: their noise is that of the halves, and would take some of it away.
    const std::vector<float> sky_of = smoothed(s.judged.planes[p].mean, s.judged_region);
    Image noise(window.width, window.height, 1, kNoData);
    std::vector<float> brightness; // what it makes of the variance
    constexpr int kBlock = 8;      // pixels: single ones hold more drops and less
    const int across = (window.width + kBlock - 1) / kBlock;
    struct Shown {
        double weight = 0;
        int pixels = 0;
    };
    std::vector<Shown> shown(static_cast<std::size_t>(across) *
                             static_cast<std::size_t>((window.height + kBlock - 1) / kBlock));
    const auto shown_at = [&](int x, int y) -> Shown& {
        return shown[static_cast<std::size_t>(y / kBlock * across + x / kBlock)];
    };
    std::size_t i = 0;
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x, ++i) {
            const double a[] = {sums.values[0][i], sums.weights[0][i]}, b[] = {sums.values[1][i], sums.weights[1][i]};
            // Each half by what it lies off the stack that judges: their difference has the variance of their mean,
            // however little weight a half has there.
            const double w = a[1] + b[1];
            if (!(w > kLeastWeight)) continue;
            constexpr double kLeast = 0.2; // of the variance at the level: readout stays
            const double signal = (a[0] + b[0]) / w;
            const double relative = flat > 0 ? std::max(kLeast, 1 + slope / flat * signal) : 1;
            brightness.push_back(static_cast<float>(relative));
            Shown& block = shown_at(x, y);
            block.weight += w, ++block.pixels;
            if (structured(s.judged.planes[p], s.judged_region, window.x + x, window.y + y)) continue;
            const double sky = judged_at(sky_of, s.judged_region, window.x + x, window.y + y) - e.level;
            noise(x, y) = static_cast<float>(((a[0] - b[0]) - sky * (a[1] - b[1])) /
                                             (w * std::sqrt(relative) * result_.expected_noise[p]));
        }
    if (brightness.empty()) return noise;
    usual = std::sqrt(median_in_place(brightness));
    for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x) { // as if all frames showed it
            const Shown& block = shown_at(x, y);
            if (block.pixels > 0) noise(x, y) *= std::sqrt(static_cast<float>(block.weight / block.pixels));
        }
    return noise;
}

void DrizzlePass::measure_noise(const Context& context) {
    if (failed_ || stack_.frames.size() < 2) return;
    // Windows of a million pixels together, which tell the noise to 0.5 %; of a small output all of it.
    constexpr int kSide = NoiseCovariance::kWindow;
    constexpr double kWindows = 256;
    const double apart = std::max<double>(kSide, std::sqrt(static_cast<double>(fine_.area()) / kWindows));
    const int across = std::max(1, static_cast<int>(fine_.width / apart)),
              down = std::max(1, static_cast<int>(fine_.height / apart));
    MappedMemory mapped(context.memory.for_buffers() / 4, [this] { release(); });
    const NoiseCovariance none = covariance_.front();
    context.workers.for_each(static_cast<std::size_t>(across) * static_cast<std::size_t>(down), [&](std::size_t k) {
        const int column = static_cast<int>(k) % across, line = static_cast<int>(k) / across;
        const auto place = [&](int index, int count, int size) {
            return static_cast<int>((index + 0.5) * size / count) - kSide / 2;
        };
        const Region window =
            intersect({place(column, across, fine_.width), place(line, down, fine_.height), kSide, kSide}, fine_);
        auto s = pool_.borrow();
        s->counted = false;
        if (window.empty() || !work(window, *s, mapped)) return;
        for (std::size_t p = 0; p < covariance_.size(); ++p) {
            NoiseCovariance here = none;
            float usual = 1;
            const Image noise = window_noise(window, *s, p, usual);
            here.add(noise.plane(), usual);
            const std::lock_guard lock(mutex_);
            covariance_[p].add(here);
        }
    });
}

} // namespace kasane
