#include <kasane/stars/psf_sums.hpp>

#include <cmath>

namespace kasane {

PsfSums psf_sums_reference(const PsfPixels& pixels, const PsfParameters& p) {
    const auto [amplitude, x0, y0, xx, xy, yy, background, gamma] = p;
    PsfSums out;
    for (std::size_t k = 0; k < pixels.count; ++k) {
        const double dx = static_cast<double>(pixels.x[k]) - x0, dy = static_cast<double>(pixels.y[k]) - y0;
        const double q = xx * dx * dx + 2 * xy * dx * dy + yy * dy * dy, base = 1 + gamma * q;
        const double model = amplitude * std::pow(base, -1 / gamma);
        const double residual = static_cast<double>(pixels.value[k]) - background - model, by_q = -model / base;
        const PsfParameters by = {model / amplitude,
                                  -2 * by_q * (xx * dx + xy * dy),
                                  -2 * by_q * (xy * dx + yy * dy),
                                  by_q * dx * dx,
                                  2 * by_q * dx * dy,
                                  by_q * dy * dy,
                                  1,
                                  model * (std::log(base) / gamma - q / base) / gamma};
        const auto weight = static_cast<double>(pixels.weight[k]);
        out.chi2 += weight * residual * residual;
        for (std::size_t i = 0; i < kPsfParameters; ++i) {
            out.gradient[i] += weight * by[i] * residual;
            for (std::size_t j = 0; j < kPsfParameters; ++j)
                out.matrix[i][j] += weight * by[i] * by[j];
        }
    }
    return out;
}

} // namespace kasane
