#include <kasane/integration/structure.hpp>

#include <kasane/integration/structure_kernel.hpp>

#include <algorithm>

namespace kasane {

namespace {

/// What is not said of the outermost pixels.
void clear_rim(std::vector<float>& v, int width) {
    std::fill_n(v.begin(), width, 0.0f);
    std::fill_n(v.end() - width, width, 0.0f);
    const auto step = static_cast<std::size_t>(width);
    for (std::size_t at = step; at < v.size(); at += step)
        v[at - 1] = v[at] = 0;
}

/// The largest of each pixel and its eight neighbours. Between core and wings of a star the Laplacian passes through
/// zero, where blurred frames differ by its higher orders.
void widen(std::vector<float>& v, int width, int height, std::vector<float>& rows) {
    rows.resize(v.size());
    clear_rim(rows, width);
    const auto stride = static_cast<std::ptrdiff_t>(width);
    for (int y = 1; y + 1 < height; ++y) {
        const float* from = v.data() + y * stride;
        float* to = rows.data() + y * stride;
        highest_of_three(from, from + 1, from + 2, to + 1, width - 2);
    }
    for (int y = 1; y + 1 < height; ++y) {
        const float* from = rows.data() + y * stride;
        float* to = v.data() + y * stride;
        highest_of_three(from + 1 - stride, from + 1, from + 1 + stride, to + 1, width - 2);
    }
}

} // namespace

bool feels_structure(const StackExpectation& expectation) {
    return std::any_of(expectation.frames.begin(), expectation.frames.end(),
                       [](const FrameExpectation& f) { return f.blur > 0 || f.shift > 0; });
}

void measure_structure(View<const float> mean, View<const float> weight, const StackExpectation& expectation,
                       Structure& out) {
    const auto area = static_cast<std::size_t>(mean.width) * static_cast<std::size_t>(mean.height);
    double weights = 0, variance = 0, growth = 0;
    for (const FrameExpectation& f : expectation.frames) {
        weights += f.weight;
        variance += static_cast<double>(f.weight) * f.weight * f.variance;
        growth += static_cast<double>(f.weight) * f.weight * f.variance_slope;
    }
    if (!(weights > 0) || mean.width < 3 || mean.height < 3) {
        out.curvature.assign(area, 0);
        out.slope.assign(area, 0);
        return;
    }
    for (std::vector<float>* v : {&out.curvature, &out.slope}) {
        v->resize(area);
        clear_rim(*v, mean.width);
    }
    // Over the weight there: of frames weighed by inverse variance, the variance of their mean.
    const auto base = static_cast<float>(variance / weights), more = static_cast<float>(growth / weights);
    // Of white noise the Laplacian has 20 times the variance, a central difference half of it.
    constexpr float kLaplacian = 20, kDifference = 0.5f, kSigmas = 3;
    const StructureLimits limits{expectation.level, base, more, kSigmas * kSigmas * kLaplacian,
                                 kSigmas * kSigmas * 2 * kDifference};
    const bool everywhere = weight.height == 0;
    if (everywhere) out.scratch.assign(static_cast<std::size_t>(mean.width), static_cast<float>(weights));
    for (int y = 1; y + 1 < mean.height; ++y) {
        const std::ptrdiff_t row = static_cast<std::ptrdiff_t>(y) * mean.width;
        structure_row({mean.row(y - 1), mean.row(y), mean.row(y + 1), everywhere ? out.scratch.data() : weight.row(y),
                       out.curvature.data() + row, out.slope.data() + row},
                      limits, mean.width);
    }
    widen(out.curvature, mean.width, mean.height, out.scratch);
}

} // namespace kasane
