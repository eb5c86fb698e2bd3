#include <kasane/stars/sky_mean.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/statistics_kernel.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

/// Out to where a Moffat profile of exponent 3 falls below a tenth of the noise.
double covered_radius(const Star& s, double fwhm, double noise) {
    constexpr double kForm = 1.0396842, kShare = 0.1, kLeast = 1.5, kMost = 12; // FWHM; 4 (2^(1/3) - 1)
    const double height = std::cbrt(std::max(1.0, s.peak / (kShare * std::max(1e-6, noise))));
    const double radius = fwhm * std::sqrt((height - 1) / kForm) * (s.saturated ? 1.3 : 1.0);
    return std::clamp(radius, kLeast * fwhm, kMost * fwhm);
}

void cover_disc(Mask& mask, double cx, double cy, double radius) {
    const int y0 = std::max(0, static_cast<int>(std::ceil(cy - radius))),
              y1 = std::min(mask.height() - 1, static_cast<int>(std::floor(cy + radius)));
    for (int y = y0; y <= y1; ++y) {
        const double half = std::sqrt(std::max(0.0, radius * radius - (y - cy) * (y - cy)));
        const int x0 = std::max(0, static_cast<int>(std::ceil(cx - half))),
                  x1 = std::min(mask.width() - 1, static_cast<int>(std::floor(cx + half)));
        if (x1 >= x0) std::fill_n(mask.plane().row(y) + x0, x1 - x0 + 1, std::uint8_t{1});
    }
}

void take_covered(const Background& b, const SkyCover& cover, Mask& mask) {
    const double fwhm = std::max(2.0, cover.fwhm);
    for (const Star& s : cover.stars)
        cover_disc(mask, s.x, s.y, covered_radius(s, fwhm, b.global_sigma));
    for (const Streak& k : cover.streaks) {
        constexpr double kWidth = 4; // pixels beside the stars' own
        const double length = std::hypot(k.x1 - k.x0, k.y1 - k.y0), radius = std::max(kWidth + fwhm, k.half_width);
        const int steps = 1 + static_cast<int>(length / (0.5 * radius));
        for (int i = 0; i <= steps; ++i) {
            const double t = static_cast<double>(i) / steps;
            cover_disc(mask, k.x0 + t * (k.x1 - k.x0), k.y0 + t * (k.y1 - k.y0), radius);
        }
    }
}

} // namespace

SkyMeans mean_sky(View<const float> image, const Background& b, const SkyCover& cover, Mask* memory) {
    constexpr int kFinest = 16, kMost = 24000;
    SkyMeans means{{}, std::min(kFinest, b.cell), image.width, image.height};
    const auto cells = [&](int size) { return std::max(1, (size + means.cell / 2) / means.cell); };
    while (means.cell < b.cell && cells(image.width) * cells(image.height) > kMost)
        means.cell *= 2;
    const int nx = cells(image.width), ny = cells(image.height), side = means.cell;
    Mask fresh, &mask = memory ? *memory : fresh;
    if (mask.bounds() == image.bounds())
        std::fill(mask.pixels().begin(), mask.pixels().end(), std::uint8_t{0});
    else
        mask = Mask(image.width, image.height);
    take_covered(b, cover, mask);
    means.values = Image(nx, ny, 1, kNoData);
    Image& out = means.values;
    constexpr float kClip = 5;
    constexpr double kLeast = 0.4;
    std::vector<float> scratch;
    const auto longest = static_cast<std::size_t>(side + side / 2 + 1); // of the last cell
    const std::size_t room = longest * longest + kTakeSlack;
    std::vector<float> buffer(static_cast<std::size_t>(nx) * room);
    std::vector<CellValues> found(static_cast<std::size_t>(nx));
    for (int j = 0; j < ny; ++j) {
        for (std::size_t k = 0; k < found.size(); ++k)
            found[k] = {buffer.data() + k * room, 0};
        const int bottom = j + 1 == ny ? image.height : std::min(image.height, (j + 1) * side);
        for (int y = j * side; y < bottom; ++y)
            if ((y - j * side) % cover.step == 0)
                take_uncovered_cells(image.row(y), std::as_const(mask).plane().row(y), side,
                                     static_cast<std::size_t>(image.width), found.size(), found.data());
        for (int i = 0; i < nx; ++i) {
            const float* const values = buffer.data() + static_cast<std::size_t>(i) * room;
            const std::size_t all = found[static_cast<std::size_t>(i)].present,
                              taken = static_cast<std::size_t>(found[static_cast<std::size_t>(i)].next - values);
            const bool full = cover.saturation > 0 && any_at_least(values, cover.saturation, taken);
            if (all == 0 || full || static_cast<double>(taken) < kLeast * static_cast<double>(all)) continue;
            // Where the clipping begins need not be known well: of many values some tell it. Their number is a prime.
            constexpr std::size_t kEnough = 61;
            if (taken <= kEnough) {
                scratch.assign(values, values + taken);
            } else {
                scratch.resize(kEnough);
                for (std::size_t k = 0; k < kEnough; ++k)
                    scratch[k] = values[k * taken / kEnough];
            }
            const float centre =
                median_in_place(scratch); // not the background's level, which passes over what is bright
            const float sigma = b.sigma(std::min(i * side / b.cell, b.sigma.width() - 1),
                                        std::min(j * side / b.cell, b.sigma.height() - 1));
            const float reach = kClip * std::max(sigma, mad_sigma_in_place(scratch, centre));
            const SumsWithin s = sums_within(values, taken, centre, centre - reach, centre + reach);
            if (static_cast<double>(s.count) > kLeast * static_cast<double>(all))
                out(i, j) = static_cast<float>(centre + s.sum / static_cast<double>(s.count));
        }
    }
    return means;
}

} // namespace kasane
