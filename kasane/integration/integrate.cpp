#include <kasane/integration/integrate.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/combination/account.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/integration/noise_factors.hpp>
#include <kasane/integration/resample_pass.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

void require_sound(const std::vector<StackFrame>& frames, const Canvas& canvas, std::size_t levels) {
    if (frames.empty()) throw DataError("there are no frames to integrate", {}, {});
    if (canvas.width < 1 || canvas.height < 1)
        throw UsageError(fmt::format("a master light of {} x {} pixels makes no sense", canvas.width, canvas.height),
                         {}, "Both sides must be positive");
    const std::size_t planes = frames.front().planes.size();
    for (const StackFrame& f : frames) {
        if (f.planes.size() != planes || f.source->planes() != static_cast<int>(planes) || levels != planes)
            throw UsageError("the frames of a stack differ in their number of planes", f.source->path(),
                             "Stack mono and colour exposures apart");
        for (const StackPlane& p : f.planes)
            if (const std::string wrong = p.level.check(); !wrong.empty())
                throw UsageError(wrong, f.source->path(), {});
    }
}

/// What one plane's frames weigh, and what is expected of their samples.
struct Expected {
    std::vector<double> weights; ///< sum 1
    double noise = 0;            ///< of the mean, as without resampling
    StackExpectation expectation;
};

Expected expect(const std::vector<StackFrame>& frames, std::size_t p, const StackNoiseFactors& noise,
                const Canvas& canvas, double level) {
    Expected e{{}, 0, {{}, static_cast<float>(level), true}};
    double total = 0;
    for (const StackFrame& f : frames) {
        const StackPlane& plane = f.planes[p];
        const double scale = plane.level.scale.value, sigma = std::max(1e-9, scale * plane.noise);
        const double factor = noise.of(f).factor(static_cast<int>(p), to_plane(f, p), canvas);
        const double slope = f.electrons_per_adu > 0 ? factor * scale / f.electrons_per_adu : 0;
        e.weights.push_back(pixel_density(plane.to_frame, f.source->width(), f.source->height()) / (sigma * sigma));
        total += e.weights.back();
        e.expectation.frames.push_back({0, static_cast<float>(factor * sigma * sigma), static_cast<float>(slope)});
    }
    for (std::size_t i = 0; i < frames.size(); ++i) {
        e.weights[i] /= total;
        e.expectation.frames[i].weight = static_cast<float>(e.weights[i]);
        e.noise += std::pow(e.weights[i] * frames[i].planes[p].level.scale.value * frames[i].planes[p].noise, 2);
    }
    e.noise = std::sqrt(e.noise);
    return e;
}

/// The steps of an integration, with all that decides them.
Provenance account_of(const Canvas& canvas, const CombinationChoice& choice, const IntegrateOptions& options) {
    Provenance made;
    Provenance::Step& resample = made.step("resample");
    resample.text = fmt::format("Lanczos-3 onto {} x {} pixels, ringing clamped from {:g} sigma", canvas.width,
                                canvas.height, options.ringing_sigmas);
    resample.set("ringing_sigmas", fmt::format("{:g}", options.ringing_sigmas));
    made.step("level").text = "a scale and an offset of each frame, smooth over the canvas";
    Provenance::Step combine = combine_step(choice);
    combine.text += "; inverse-variance weights";
    combine.set("real_share", fmt::format("{:g}", options.real_share));
    made.steps.push_back(std::move(combine));
    return made;
}

} // namespace

std::string IntegrateOptions::check() const {
    if (tile < 1) return fmt::format("tiles have a side of 1 pixel or more, not {}", tile);
    if (!(ringing_sigmas >= 0)) return fmt::format("ringing is clamped from 0 sigma or more, not {:g}", ringing_sigmas);
    if (!(real_share >= 0 && real_share <= 1))
        return fmt::format("the share of real frames lies between 0 and 1, not at {:g}", real_share);
    return combine ? combine->check() : std::string{};
}

Transform to_plane(const StackFrame& frame, std::size_t plane) {
    const auto shift = frame.source->shift(static_cast<int>(plane));
    return frame.planes[plane].to_frame.shifted(-shift[0], -shift[1]);
}

double pixel_density(const Transform& to_frame, int width, int height) {
    const double density = std::abs(to_frame.at(to_frame.unmap({0.5 * (width - 1), 0.5 * (height - 1)})).determinant());
    return density > 0 ? density : 1; // nothing of the frame's middle can be shown
}

MasterLight integrate(const std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                      const Context& context, const IntegrateOptions& options) {
    require_sound(frames, canvas, levels.size());
    require_sense(options);
    const std::size_t planes = levels.size();
    const int count = static_cast<int>(frames.size()), n = static_cast<int>(planes);
    MasterLight result;
    result.pixels = Image(canvas.width, canvas.height, n, kNoData);
    result.coverage = Image(canvas.width, canvas.height, n);
    const CombinationChoice choice =
        options.combine ? CombinationChoice{*options.combine, combination_text(*options.combine, count)}
                        : choose_combination(StackOf::lights, count);
    result.made = account_of(canvas, choice, options);
    const StackNoiseFactors noise(frames);
    std::vector<Combiner> combiners;
    for (std::size_t p = 0; p < planes; ++p) {
        Expected expected = expect(frames, p, noise, canvas, levels[p]);
        result.weights.push_back(std::move(expected.weights));
        result.expected_noise.push_back(expected.noise);
        combiners.emplace_back(std::move(expected.expectation), choice.options);
    }
    ResamplePass pass(frames, combiners, options, result);
    run_tiles(pass, canvas.bounds(),
              {options.tile, static_cast<std::uint64_t>(canvas.bounds().area()) * 2 * sizeof(float) * planes}, context);
    pass.finish();
    return result;
}

} // namespace kasane
