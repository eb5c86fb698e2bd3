#include <kasane/integration/sampling.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/resample.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/drop_kernel.hpp>
#include <kasane/integration/pixel_response.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr double kHole = 1e-4; // of the whole weight, as where nothing is laid down

double lanczos3(double x) {
    x = std::abs(x);
    if (x >= 3) return 0;
    if (x < 1e-9) return 1;
    const double p = kPi * x;
    return std::sin(p) / p * std::sin(p / 3) / (p / 3);
}

/// Middles of even parts of a side.
double place_along(int k, int size) {
    return (k + 0.5) * size / PhaseCoverage::kPlaces - 0.5;
}

std::size_t planes_of(const std::vector<SampledFrame>& frames) {
    std::size_t planes = 0;
    for (const SampledFrame& f : frames)
        planes = std::max(planes, f.to_frame.size());
    return planes;
}

double usual_fwhm(const std::vector<SampledFrame>& frames) {
    std::vector<float> known;
    for (const SampledFrame& f : frames)
        if (f.fwhm > 0 && std::isfinite(f.fwhm)) known.push_back(static_cast<float>(f.fwhm));
    return known.empty() ? 0 : median_in_place(known);
}

double share_of_plane(const SampledFrame& f, std::size_t plane) {
    if (!f.plane_of) return 1;
    constexpr int kPeriod = 6; // of any mosaic
    int count = 0;
    for (int y = 0; y < kPeriod; ++y)
        for (int x = 0; x < kPeriod; ++x)
            count += f.plane_of(x, y) == static_cast<int>(plane);
    return std::max(1, count) / static_cast<double>(kPeriod * kPeriod);
}

/// What one light's samples give to the pixels of a patch.
struct Given {
    std::size_t pixel;
    std::int64_t sample;
    double weight;
};

/// A square of the output around a place: some areas large enough for a star.
class Patch {
public:
    static constexpr int kAreas = 2; // along its side

    Patch(Point middle, const DrizzleOptions& o, int area)
        : area_(area), side_(area * kAreas), first_x_(std::floor((middle.x + 0.5) * o.scale) - side_ / 2),
          first_y_(std::floor((middle.y + 0.5) * o.scale) - side_ / 2), options_(o),
          weights_(static_cast<std::size_t>(side_) * static_cast<std::size_t>(side_)) {}

    /// A light's drops. Those that lie outside the light are left out.
    void add(const SampledFrame& f, std::size_t plane) {
        const Transform& t = f.to_frame[plane];
        const double usable = std::max(0.05, t.at(pixel(side_ / 2, side_ / 2)).scale());
        const DropKernel kernel(options_.shape, options_.drop, usable / options_.scale);
        const double own = f.weight / share_of_plane(f, plane);
        std::vector<Given> given;
        const int before = kernel.taps() / 2 - 1, after = kernel.taps() / 2;
        for (int j = 0; j < side_; ++j)
            for (int i = 0; i < side_; ++i) {
                const Point p = t.map(pixel(i, j));
                if (!(std::abs(p.x) < 1e6 && std::abs(p.y) < 1e6)) continue;
                const int u = static_cast<int>(std::floor(p.x)), v = static_cast<int>(std::floor(p.y));
                for (int y = v - before; y <= v + after; ++y)
                    for (int x = u - before; x <= u + after; ++x) {
                        if (x < 0 || y < 0 || x >= f.width || y >= f.height) continue;
                        if (f.plane_of && f.plane_of(x, y) != static_cast<int>(plane)) continue;
                        const double w = static_cast<double>(kernel.at(static_cast<float>(x - p.x))) *
                                         static_cast<double>(kernel.at(static_cast<float>(y - p.y)));
                        if (!(w > 0)) continue;
                        const auto k = static_cast<std::size_t>(j * side_ + i);
                        given.push_back({k, (static_cast<std::int64_t>(y) << 32) | x, own * w});
                        weights_[k] += own * w;
                    }
            }
        if (given.empty()) return; // it shows nothing of this
        frames_.push_back(std::move(given));
        frame_weights_.push_back(f.weight);
        total_ += f.weight;
    }
    bool empty() const { return frames_.empty(); }

    double holes() const {
        return static_cast<double>(
            std::count_if(weights_.begin(), weights_.end(), [&](double w) { return !(w > kHole * total_); }));
    }
    double pixels() const { return static_cast<double>(weights_.size()); }

    /// Variances of the means over its areas, in all: with the weights that there are, and with even ones.
    std::array<double, 2> variances() const {
        std::array<double, 2> sums{};
        if (!(total_ > 0)) return sums;
        for (int area = 0; area < kAreas * kAreas; ++area) {
            const int left = area % kAreas * area_, top = area / kAreas * area_;
            for (std::size_t f = 0; f < frames_.size(); ++f) {
                // A sample's share in the mean over the area: over its pixels, what it gives there over their weight.
                std::vector<std::pair<std::int64_t, std::array<double, 2>>> shares;
                for (const Given& g : frames_[f]) {
                    const int x = static_cast<int>(g.pixel) % side_ - left, y = static_cast<int>(g.pixel) / side_ - top;
                    if (x < 0 || y < 0 || x >= area_ || y >= area_ || !(weights_[g.pixel] > kHole * total_)) continue;
                    shares.push_back({g.sample, {g.weight / weights_[g.pixel], g.weight / total_}});
                }
                std::sort(shares.begin(), shares.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
                for (std::size_t i = 0; i < shares.size();) {
                    std::array<double, 2> all{};
                    const std::int64_t sample = shares[i].first;
                    for (; i < shares.size() && shares[i].first == sample; ++i)
                        for (std::size_t k = 0; k < 2; ++k)
                            all[k] += shares[i].second[k];
                    for (std::size_t k = 0; k < 2; ++k)
                        sums[k] += all[k] * all[k] / frame_weights_[f];
                }
            }
        }
        return sums;
    }

private:
    /// Of the output, where it lies on the canvas.
    Point pixel(int i, int j) const {
        return {(first_x_ + i + 0.5) / options_.scale - 0.5, (first_y_ + j + 0.5) / options_.scale - 0.5};
    }

    int area_, side_;
    double first_x_, first_y_;
    DrizzleOptions options_;
    std::vector<double> weights_;
    std::vector<std::vector<Given>> frames_;
    std::vector<double> frame_weights_;
    double total_ = 0;
};

} // namespace

double interpolated_fwhm(double fwhm) {
    if (!(fwhm > 0)) return 0;
    const double sigma = fwhm / kFwhmPerSigma;
    const auto profile = [&](double x) {
        constexpr double kStep = 0.01;
        double sum = 0;
        for (double u = -3 + kStep / 2; u < 3; u += kStep)
            sum += lanczos3(u) * std::exp(-0.5 * (x - u) * (x - u) / (sigma * sigma));
        return sum;
    };
    return width_at_half(profile, 2 * fwhm + 2);
}

double drizzled_fwhm(double fwhm, const DrizzleOptions& o) {
    if (!(fwhm > 0)) return 0;
    if (o.restore) return restored_fwhm(fwhm, o);
    const double of_square = kFwhmPerSigma * kFwhmPerSigma / 12;
    const double drop =
        o.shape == DropShape::square ? of_square * (o.drop * o.drop + 1 / (o.scale * o.scale)) : o.drop * o.drop;
    return std::sqrt(fwhm * fwhm + drop);
}

DrizzlePrediction predict_drizzle(const std::vector<SampledFrame>& frames, const Canvas& canvas,
                                  const DrizzleOptions& o) {
    DrizzlePrediction out;
    out.options = o;
    const double fwhm = usual_fwhm(frames);
    out.interpolated = interpolated_fwhm(fwhm), out.fwhm = drizzled_fwhm(fwhm, o);
    if (out.interpolated > 0) out.gain = 1 - out.fwhm / out.interpolated;
    constexpr double kSide = 6; // pixels of the canvas: large enough that their edges, which drops blur, matter little
    const int area = static_cast<int>(std::lround(o.scale * kSide));
    const std::size_t planes = planes_of(frames);
    for (std::size_t p = 0; p < planes; ++p) {
        double real = 0, even = 0, holes = 0, pixels = 0;
        for (int j = 0; j < PhaseCoverage::kPlaces; ++j)
            for (int i = 0; i < PhaseCoverage::kPlaces; ++i) {
                Patch patch({place_along(i, canvas.width), place_along(j, canvas.height)}, o, area);
                for (const SampledFrame& f : frames)
                    if (p < f.to_frame.size() && f.weight > 0) patch.add(f, p);
                if (patch.empty()) continue;
                const auto [with, without] = patch.variances();
                real += with, even += without;
                holes += patch.holes(), pixels += patch.pixels();
            }
        if (even > 0) out.uneven = std::max(out.uneven, std::sqrt(real / even) - 1);
        if (pixels > 0) out.holes = std::max(out.holes, holes / pixels);
    }
    out.cost = o.restore ? (1 + out.uneven) * (1 + restoring_cost(fwhm, o)) - 1 : out.uneven;
    return out;
}

double fwhm_on_canvas(const std::vector<SampledFrame>& frames, const Canvas& canvas) {
    std::vector<float> known;
    for (const SampledFrame& f : frames) {
        if (f.to_frame.empty() || !(f.fwhm > 0 && std::isfinite(f.fwhm))) continue;
        const double finer = f.to_frame.front().at({0.5 * canvas.width, 0.5 * canvas.height}).scale();
        if (finer > 0 && std::isfinite(finer)) known.push_back(static_cast<float>(f.fwhm / finer));
    }
    return known.empty() ? 0 : static_cast<double>(median_in_place(known));
}

PhaseCoverage phase_coverage(const std::vector<SampledFrame>& frames, const Canvas& canvas) {
    PhaseCoverage out;
    double sum = 0;
    for (int k = 0; k < PhaseCoverage::kPlaces * PhaseCoverage::kPlaces; ++k) {
        const Point at = {std::round(place_along(k % PhaseCoverage::kPlaces, canvas.width)),
                          std::round(place_along(k / PhaseCoverage::kPlaces, canvas.height))};
        std::array<bool, static_cast<std::size_t>(PhaseCoverage::kSide) * PhaseCoverage::kSide> filled{};
        for (const SampledFrame& f : frames) {
            if (f.to_frame.empty()) continue;
            const Point p = f.to_frame.front().map(at);
            if (!(p.x >= -0.5 && p.y >= -0.5 && p.x <= f.width - 0.5 && p.y <= f.height - 0.5)) continue;
            const Point phase = {p.x - std::floor(p.x), p.y - std::floor(p.y)};
            out.phases[static_cast<std::size_t>(k)].push_back(phase);
            // A step of a thousandth, so that lights that were never moved lie in one cell.
            const auto cell = [](double v) {
                return static_cast<std::size_t>(std::floor((v + 1e-3) * PhaseCoverage::kSide)) % PhaseCoverage::kSide;
            };
            filled[cell(phase.y) * PhaseCoverage::kSide + cell(phase.x)] = true;
        }
        sum += static_cast<double>(std::count(filled.begin(), filled.end(), true));
    }
    out.cells = sum / (PhaseCoverage::kPlaces * PhaseCoverage::kPlaces);
    return out;
}

std::optional<DrizzleOptions> advise_drizzle(const std::vector<std::vector<SampledFrame>>& stacks, const Canvas& canvas,
                                             DropShape shape, std::optional<double> drop, const DrizzleLimits& limits) {
    constexpr double kSharper = 0.03; // what the larger image has to bring
    std::optional<DrizzleOptions> best;
    double best_gain = 0;
    for (const double scale : {2.0, 3.0}) {
        if (scale > limits.most_scale) continue;
        if (std::any_of(stacks.begin(), stacks.end(), [&](const std::vector<SampledFrame>& s) {
                return !s.empty() && phase_coverage(s, canvas).cells < limits.least_cells(scale);
            }))
            continue;
        std::optional<DrizzleOptions> here;
        double here_gain = 0;
        for (double size = drop.value_or(1.0); size > 0.25; size -= 0.1) {
            const DrizzleOptions o{scale, drop ? *drop : std::round(10 * size) / 10, shape, false, 0};
            double gain = 0, lights = 0, cost = 0, holes = 0;
            for (const std::vector<SampledFrame>& stack : stacks) {
                if (stack.empty()) continue;
                const DrizzlePrediction p = predict_drizzle(stack, canvas, o);
                const auto n = static_cast<double>(stack.size());
                gain += n * p.gain, lights += n;
                cost = std::max(cost, p.uneven), holes = std::max(holes, p.holes);
            }
            if (lights == 0 || cost > limits.most_cost || holes > limits.most_holes) break; // smaller ones too
            gain /= lights;
            if (gain >= limits.least_gain && gain > here_gain) here = o, here_gain = gain;
            if (drop) break;
        }
        if (here && here_gain > best_gain + (best ? kSharper : 0)) best = here, best_gain = here_gain;
    }
    return best;
}

DrizzleOptions advise_restoring(const std::vector<std::vector<SampledFrame>>& stacks, const Canvas& canvas,
                                const DrizzleOptions& options, std::optional<bool> wish, const DrizzleLimits& limits) {
    constexpr double kLeastScale = 1.5; // of pixels that can hold it
    DrizzleOptions out = options;
    out.restore = false, out.smooth = 0;
    const auto gains = [&](const std::vector<SampledFrame>& stack) {
        const double fwhm = usual_fwhm(stack);
        if (!(fwhm > 0 && fwhm <= limits.most_fwhm)) return false;
        if (phase_coverage(stack, canvas).cells < limits.least_cells(options.scale)) return false;
        const DrizzlePrediction p = predict_drizzle(stack, canvas, out);
        return p.uneven <= limits.most_cost && p.holes <= limits.most_holes;
    };
    const bool restore =
        wish ? *wish
             : !stacks.empty() && options.scale >= kLeastScale && std::all_of(stacks.begin(), stacks.end(), gains);
    if (!restore) return out;
    out.restore = true;
    for (const std::vector<SampledFrame>& stack : stacks)
        out.smooth = std::max(out.smooth, restoring_smoothness(usual_fwhm(stack)));
    return out;
}

std::string prediction_text(const DrizzlePrediction& p) {
    const DrizzleOptions& o = p.options;
    const std::string how = fmt::format("at scale {:g} with drops of {:g} px{}", o.scale, o.drop,
                                        o.restore ? " and their blur taken out" : "");
    const std::string price = fmt::format("{:.0f} % more noise a resolution element, holes in {:.1f} % of the pixels",
                                          100 * std::max(0.0, p.cost), 100 * p.holes);
    if (!(p.interpolated > 0)) return fmt::format("{} {}; how sharp stars are is not known", how, price);
    const double percent = 100 * p.gain;
    if (percent < 0.5) return fmt::format("{} nothing is gained in sharpness, {}", how, price);
    return fmt::format("{} {:.0f} % sharper (FWHM {:.2f} instead of {:.2f} px), {}", how, percent, p.fwhm,
                       p.interpolated, price);
}

Raster<std::uint8_t> draw_phases(const PhaseCoverage& coverage) {
    constexpr int kPixel = 200, kGap = 24, kDot = 4;
    constexpr int kAll = PhaseCoverage::kPlaces * (kPixel + kGap) + kGap;
    struct Colour {
        std::uint8_t r, g, b;
    };
    constexpr Colour kBack{20, 22, 26}, kField{36, 40, 47}, kFilled{52, 66, 84}, kLine{74, 80, 90}, kMark{242, 184, 92};
    Raster<std::uint8_t> out(kAll, kAll, 3);
    const auto put = [&](int x, int y, const Colour& c) { out(x, y, 0) = c.r, out(x, y, 1) = c.g, out(x, y, 2) = c.b; };
    for (int y = 0; y < kAll; ++y)
        for (int x = 0; x < kAll; ++x)
            put(x, y, kBack);
    constexpr int kCell = kPixel / PhaseCoverage::kSide;
    for (int k = 0; k < PhaseCoverage::kPlaces * PhaseCoverage::kPlaces; ++k) {
        const int left = kGap + k % PhaseCoverage::kPlaces * (kPixel + kGap),
                  top = kGap + k / PhaseCoverage::kPlaces * (kPixel + kGap);
        const std::vector<Point>& phases = coverage.phases[static_cast<std::size_t>(k)];
        std::array<bool, static_cast<std::size_t>(PhaseCoverage::kSide) * PhaseCoverage::kSide> filled{};
        for (const Point& p : phases)
            filled[static_cast<std::size_t>(p.y * PhaseCoverage::kSide) * PhaseCoverage::kSide +
                   static_cast<std::size_t>(p.x * PhaseCoverage::kSide)] = true;
        for (int y = 0; y < kPixel; ++y)
            for (int x = 0; x < kPixel; ++x) {
                const bool line = x % kCell == 0 || y % kCell == 0;
                const bool light = filled[static_cast<std::size_t>(y / kCell * PhaseCoverage::kSide + x / kCell)];
                put(left + x, top + y, line ? kLine : light ? kFilled : kField);
            }
        for (const Point& p : phases) {
            const int x0 = left + static_cast<int>(p.x * kPixel), y0 = top + static_cast<int>(p.y * kPixel);
            for (int y = -kDot; y <= kDot; ++y)
                for (int x = -kDot; x <= kDot; ++x)
                    if (x * x + y * y <= kDot * kDot) put(x0 + x, y0 + y, kMark);
        }
    }
    return out;
}

} // namespace kasane
