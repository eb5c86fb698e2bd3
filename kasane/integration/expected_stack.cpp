#include <kasane/integration/expected_stack.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Squared pixels of the canvas: the variance of a frame's stars along one axis; 0 where it is not known.
double star_variance(const StackPlane& plane, const StackFrame& frame) {
    const double side = std::sqrt(pixel_density(plane.to_frame, frame.source->width(), frame.source->height()));
    const double sigma = plane.fwhm / kFwhmPerSigma / std::max(0.1, side);
    return std::isfinite(sigma) ? sigma * sigma : 0;
}

} // namespace

ExpectedStack expect_stack(const std::vector<StackFrame>& frames, std::size_t p, const StackNoiseFactors& noise,
                           const Canvas& canvas, double level, double worth_exponent) {
    ExpectedStack e{{}, 0, {{}, static_cast<float>(level), true}};
    double total = 0;
    for (const StackFrame& f : frames) {
        const StackPlane& plane = f.planes[p];
        const double scale = plane.level.scale.value, sigma = std::max(1e-9, scale * plane.noise);
        const double factor = noise.of(f).factor(static_cast<int>(p), to_plane(f, p), canvas);
        const double slope = f.electrons_per_adu > 0 ? factor * scale / f.electrons_per_adu : 0;
        const double worth = pixel_density(plane.to_frame, f.source->width(), f.source->height()) / (sigma * sigma);
        e.weights.push_back(f.emphasis * std::pow(worth, worth_exponent));
        total += e.weights.back();
        FrameExpectation one{0, static_cast<float>(factor * sigma * sigma), static_cast<float>(slope)};
        one.scale_error = static_cast<float>(plane.scale_error);
        const double side = std::sqrt(pixel_density(plane.to_frame, f.source->width(), f.source->height()));
        one.shift = static_cast<float>(side > 0.1 ? plane.misplaced / side : plane.misplaced);
        e.expectation.frames.push_back(one);
    }
    if (!(total > 0 && std::isfinite(total)))
        throw DataError("the weights of all frames together are zero, so that nothing can be averaged", {},
                        "Look at [integration] weights in the recipe");
    double usual = 0; // variance of the stack's stars
    for (std::size_t i = 0; i < frames.size(); ++i) {
        e.weights[i] /= total;
        e.expectation.frames[i].weight = static_cast<float>(e.weights[i]);
        const StackPlane& plane = frames[i].planes[p];
        e.noise += std::pow(e.weights[i] * plane.level.scale.value * plane.noise, 2);
        usual += e.weights[i] * star_variance(plane, frames[i]);
    }
    const bool all_known =
        std::all_of(frames.begin(), frames.end(), [&](const StackFrame& f) { return f.planes[p].fwhm > 0; });
    for (std::size_t i = 0; all_known && i < frames.size(); ++i) {
        const double own = star_variance(frames[i].planes[p], frames[i]);
        if (!(own > 0)) continue;
        // To the first order; the core of a sharper frame stands out by the ratio of the areas more.
        const double sharper = std::max(1.0, usual / own);
        e.expectation.frames[i].blur = static_cast<float>(0.5 * std::abs(own - usual) * sharper);
    }
    e.noise = std::sqrt(e.noise);
    return e;
}

StackExpectation expect_usual_place(const StackExpectation& expectation, const std::vector<StackFrame>& frames,
                                    std::size_t p, const Canvas& canvas) {
    constexpr int kAcross = 15; // places along each side
    constexpr std::size_t kLeast = 3;
    std::vector<std::vector<std::size_t>> shown; // which frames, by place
    for (int j = 0; j < kAcross; ++j)
        for (int i = 0; i < kAcross; ++i) {
            std::vector<std::size_t> here;
            for (std::size_t f = 0; f < frames.size(); ++f) {
                const Point at = frames[f].planes[p].to_frame.map(
                    {(i + 0.5) * canvas.width / kAcross - 0.5, (j + 0.5) * canvas.height / kAcross - 0.5});
                const PlaneSource& source = *frames[f].source;
                if (at.x >= 0 && at.y >= 0 && at.x <= source.width() - 1 && at.y <= source.height() - 1)
                    here.push_back(f);
            }
            if (!here.empty()) shown.push_back(std::move(here));
        }
    if (shown.empty()) return expectation;
    const auto middle = shown.begin() + static_cast<std::ptrdiff_t>(shown.size() / 2);
    std::nth_element(shown.begin(), middle, shown.end(),
                     [](const auto& a, const auto& b) { return a.size() != b.size() ? a.size() < b.size() : a < b; });
    if (middle->size() < kLeast) return expectation;
    StackExpectation out{{}, expectation.level, expectation.noise_known};
    for (const std::size_t f : *middle)
        out.frames.push_back(expectation.frames[f]);
    return out;
}

std::vector<double> levels_of(const std::vector<Combiner>& combiners) {
    std::vector<double> out;
    for (const Combiner& c : combiners)
        out.push_back(c.expectation().level);
    return out;
}

} // namespace kasane
