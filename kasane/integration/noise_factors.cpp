#include <kasane/integration/noise_factors.hpp>

#include <kasane/image/resample.hpp>
#include <kasane/image/statistics.hpp>

#include <cmath>

namespace kasane {

double resampling_noise_factor(const Transform& t, const Canvas& canvas) {
    double sum = 0, count = 0;
    constexpr int kGrid = 24;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            // Odd steps, so that the grid does not beat with a scale.
            const auto [u, v] =
                t.map({std::floor((i + 0.37) * canvas.width / kGrid), std::floor((j + 0.61) * canvas.height / kGrid)});
            if (!std::isfinite(u) || !std::isfinite(v)) continue; // far beyond the frame, where its lens folds
            double px = 0, py = 0;
            for (const double w : lanczos3_weights(u - std::floor(u)))
                px += w * w;
            for (const double w : lanczos3_weights(v - std::floor(v)))
                py += w * w;
            sum += px * py;
            ++count;
        }
    return count > 0 ? sum / count : 1;
}

double NoiseFactors::factor(int plane, const Transform& to_frame, const Canvas& canvas) const {
    if (fields_.empty()) return resampling_noise_factor(to_frame, canvas);
    constexpr int kMargin = 12; // pixels
    const int width = fields_.front().width(), height = fields_.front().height();
    std::vector<std::int32_t> column, row;
    std::vector<float> fx, fy;
    for (int y = kMargin; y < height - kMargin; ++y)
        for (int x = kMargin; x < width - kMargin; ++x) {
            // The fractions that the transform brings somewhere on the canvas, by odd steps.
            const auto [u, v] = to_frame.map({std::floor((x * 37 % 101) / 101.0 * canvas.width),
                                              std::floor((y * 53 % 103) / 103.0 * canvas.height)});
            if (!std::isfinite(u) || !std::isfinite(v)) continue;
            column.push_back(x);
            row.push_back(y);
            fx.push_back(static_cast<float>(u - std::floor(u)));
            fy.push_back(static_cast<float>(v - std::floor(v)));
        }
    if (column.empty()) return 1;
    double squares = 0;
    std::vector<float> out(column.size());
    for (const Image& field : fields_) {
        resample_lanczos3(field.plane(plane),
                          {column.data(), row.data(), fx.data(), fy.data(), static_cast<int>(out.size())}, out.data());
        for (const float v : out)
            squares += static_cast<double>(v) * v;
    }
    return squares / static_cast<double>(out.size() * fields_.size());
}

StackNoiseFactors::StackNoiseFactors(const std::vector<StackFrame>& frames) {
    std::map<std::pair<int, int>, std::vector<const StackFrame*>> kinds;
    for (const StackFrame& f : frames)
        kinds[{f.source->width(), f.source->height()}].push_back(&f);
    for (const auto& [size, kind] : kinds) {
        std::vector<double> noise;
        for (std::size_t p = 0; p < kind.front()->planes.size(); ++p) {
            std::vector<float> all;
            for (const StackFrame* f : kind)
                all.push_back(static_cast<float>(f->planes[p].noise));
            noise.push_back(std::max<double>(1e-9, median_in_place(all)));
        }
        by_size_.emplace(size, NoiseFactors(*kind.front()->source, noise));
    }
}

const NoiseFactors& StackNoiseFactors::of(const StackFrame& f) const {
    return by_size_.at({f.source->width(), f.source->height()});
}

} // namespace kasane
