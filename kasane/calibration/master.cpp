#include <kasane/calibration/master.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/fixed_stars.hpp>
#include <kasane/combination/account.hpp>
#include <kasane/combination/combiner.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr int kSampleRows = 32;   // spread over the frame, for levels, tilt and noise
constexpr int kBlocksAcross = 12; // of a row, for the tilt
constexpr std::size_t kMostNoisePairs = 24;

int sample_row(int i, int rows, int height) {
    return static_cast<int>((i + 0.5) * height / rows);
}

int colours_of(const FrameReader& frame, const CfaPattern& cfa) {
    return frame.planes() == 3 ? 3 : cfa.colours();
}

/// What is known of one frame before the pixels are combined.
struct FrameSample {
    std::array<float, 3> level{}; ///< by colour, ADU, offset removed
    float noise = 0;              ///< of the sample, for telling light from darkness
    std::vector<float> blocks;    ///< relative to the colour's level, colour by colour and row by row
    std::array<float, 3> scale{1, 1, 1};
    float tilt_x = 0, tilt_y = 0, tilt_0 = 0; ///< relative excess over what the frames have in common, at x, y in -1..1
};

float finite_median(std::vector<float>& values) {
    std::erase_if(values, [](float v) { return !std::isfinite(v); });
    return values.empty() ? 0 : median_in_place(values);
}

/// Reads the sampled rows of one frame, offset removed: calls `row(i, y, colour of each pixel's plane, values)`.
template <class F>
void for_each_sample_row(const FrameReader& frame, const FrameReader* offset, float offset_level, F f) {
    const int rows = std::min(kSampleRows, frame.height());
    Image row(frame.width(), 1), dark(frame.width(), 1, 1, offset_level);
    for (int p = 0; p < frame.planes(); ++p)
        for (int i = 0; i < rows; ++i) {
            const Region r{0, sample_row(i, rows, frame.height()), frame.width(), 1};
            frame.read(r, row.plane(), p);
            if (offset) offset->read(r, dark.plane(), p);
            for (int x = 0; x < frame.width(); ++x)
                row(x, 0) -= dark(x, 0);
            f(i, r.y, p, row.pixels());
        }
}

/// How frames are looked at before they are combined.
struct Sampling {
    const FrameReader* offset; ///< what is taken off; may be null
    float offset_level;        ///< the same where there is no frame of it, ADU
    CfaPattern cfa;
    bool flat; ///< their shape and level count, too
};

FrameSample sample_frame(const FrameReader& frame, const Sampling& how) {
    const auto& [offset, offset_level, cfa, with_shape] = how;
    const int rows = std::min(kSampleRows, frame.height()), colours = colours_of(frame, cfa);
    const bool planes = frame.planes() == 3;
    const int width = frame.width();
    std::array<std::vector<float>, 3> values;
    std::vector<float> differences;
    for_each_sample_row(frame, offset, offset_level, [&](int, int y, int p, const Image::Pixels& row) {
        constexpr int kEvery = 2; // pairs of pixels, so that a mosaic's colours both come
        for (int x = 0; x < width; x += (x & 1) ? 2 * kEvery - 1 : 1)
            values[static_cast<std::size_t>(planes ? p : cfa.colour(x, y))].push_back(row[static_cast<std::size_t>(x)]);
        const std::size_t lag = cfa.empty() ? 1 : 2;
        for (std::size_t x = lag; x < row.size(); x += 2 * lag)
            if (std::isfinite(row[x] - row[x - lag])) differences.push_back(row[x] - row[x - lag]);
    });
    FrameSample s;
    for (int c = 0; c < colours; ++c)
        s.level[static_cast<std::size_t>(c)] = finite_median(values[static_cast<std::size_t>(c)]);
    s.noise = differences.empty() ? 0 : mad_sigma_in_place(differences, 0) / std::sqrt(2.0f);
    if (!with_shape) return s;
    // Block medians: a pair of rows holds all colours of a mosaic, so blocks are taken by colour within each row.
    s.blocks.assign(static_cast<std::size_t>(rows * kBlocksAcross), 0);
    std::vector<float> block;
    std::vector<int> parts(s.blocks.size());
    for_each_sample_row(frame, offset, offset_level, [&](int i, int y, int p, const Image::Pixels& row) {
        for (int b = 0; b < kBlocksAcross; ++b) {
            block.clear();
            for (int x = b * width / kBlocksAcross; x < (b + 1) * width / kBlocksAcross; ++x) {
                const float level = s.level[static_cast<std::size_t>(planes ? p : cfa.colour(x, y))];
                if (level > 0) block.push_back(row[static_cast<std::size_t>(x)] / level);
            }
            const auto at = static_cast<std::size_t>(i * kBlocksAcross + b);
            s.blocks[at] += finite_median(block);
            ++parts[at];
        }
    });
    for (std::size_t i = 0; i < s.blocks.size(); ++i)
        s.blocks[i] /= static_cast<float>(std::max(1, parts[i]));
    return s;
}

/// A plane through values on the grid of blocks: value at the centre, and changes from there to the edge.
std::array<double, 3> fit_tilt(const std::vector<float>& values) {
    const int rows = static_cast<int>(values.size()) / kBlocksAcross;
    std::vector<Equation<3>> blocks;
    for (int i = 0; i < rows; ++i)
        for (int b = 0; b < kBlocksAcross; ++b)
            if (const float value = values[static_cast<std::size_t>(i * kBlocksAcross + b)]; std::isfinite(value))
                blocks.push_back({{1, (2.0 * b + 1) / kBlocksAcross - 1, (2.0 * i + 1) / rows - 1}, value});
    const Eigen::Vector3d fit = least_squares(blocks);
    if (rows < 2 || !fit.allFinite()) return {0, 0, 0};
    return {fit[0], fit[1], fit[2]};
}

/// Each flat's tilt against the shape that all have in common: the sky's own, which moves with the sun.
void find_tilts(std::vector<FrameSample>& samples) {
    const std::size_t n = samples.front().blocks.size();
    std::vector<float> common(n), values(samples.size());
    for (std::size_t b = 0; b < n; ++b) {
        for (std::size_t f = 0; f < samples.size(); ++f)
            values[f] = samples[f].blocks[b];
        common[b] = median_in_place(values);
    }
    std::vector<float> ratio(n);
    for (FrameSample& s : samples) {
        for (std::size_t b = 0; b < n; ++b)
            ratio[b] = common[b] > 0 ? s.blocks[b] / common[b] - 1 : 0;
        const auto [centre, x, y] = fit_tilt(ratio);
        constexpr double kMost = 0.5; // of the level: more is no tilt
        if (std::abs(x) + std::abs(y) > kMost) continue;
        s.tilt_0 = static_cast<float>(centre);
        s.tilt_x = static_cast<float>(x);
        s.tilt_y = static_cast<float>(y);
    }
}

/// Brings a row of a frame to the common level: v -> v * scale of its colour / (1 + tilt).
class Levelling {
public:
    Levelling(const FrameSample& s, int width, int height, const CfaPattern& cfa, bool planes)
        : s_(s), width_(width), height_(height), cfa_(cfa), planes_(planes) {}

    void apply(int y, int plane, const float* dark, float* row) const {
        const float v = 2 * (static_cast<float>(y) + 0.5f) / static_cast<float>(height_) - 1;
        const float at_left = 1 + s_.tilt_0 + s_.tilt_y * v - s_.tilt_x;
        const float step = 2 * s_.tilt_x / static_cast<float>(width_);
        const bool mosaic = !planes_ && !cfa_.empty();
        const float even = s_.scale[static_cast<std::size_t>(planes_ ? plane : mosaic ? cfa_.colour(0, y) : 0)];
        const float odd = mosaic && cfa_.period() == 2 ? s_.scale[static_cast<std::size_t>(cfa_.colour(1, y))] : even;
        if (mosaic && cfa_.period() != 2) {
            for (int x = 0; x < width_; ++x)
                row[x] = (row[x] - dark[x]) * s_.scale[static_cast<std::size_t>(cfa_.colour(x, y))] /
                         (at_left + step * (static_cast<float>(x) + 0.5f));
            return;
        }
        for (int x = 0; x < width_; ++x)
            row[x] = (row[x] - dark[x]) * ((x & 1) ? odd : even) / (at_left + step * (static_cast<float>(x) + 0.5f));
    }

private:
    const FrameSample& s_;
    int width_, height_;
    const CfaPattern& cfa_;
    bool planes_;
};

/// Noise of one levelled frame, from the differences between neighbours in the list.
double difference_sigma(const std::vector<std::shared_ptr<const FrameReader>>& frames,
                        const std::vector<FrameSample>& samples, const Sampling& how, const Workers& workers) {
    const auto& [offset, offset_level, cfa, flat] = how;
    const FrameReader& first = *frames.front();
    const std::size_t pairs = frames.size() - 1, used = std::min(pairs, kMostNoisePairs);
    std::vector<float> sigmas(used);
    workers.for_each(used, [&](std::size_t k) {
        const std::size_t f = k * pairs / used;
        std::vector<float> d;
        const std::vector<float> nothing(static_cast<std::size_t>(first.width()), 0.0f);
        std::vector<Image::Pixels> rows;
        for (const std::size_t g : {f, f + 1}) {
            const Levelling level(samples[g], first.width(), first.height(), cfa, first.planes() == 3);
            std::size_t at = 0;
            for_each_sample_row(*frames[g], offset, offset_level, [&](int, int y, int p, Image::Pixels row) {
                if (flat) level.apply(y, p, nothing.data(), row.data());
                if (g == f) {
                    rows.push_back(std::move(row));
                } else {
                    for (std::size_t x = 0; x < row.size(); ++x)
                        if (const float v = row[x] - rows[at][x]; std::isfinite(v)) d.push_back(v);
                    ++at;
                }
            });
        }
        if (d.empty()) return;
        const float center = median_in_place(d);
        sigmas[k] = mad_sigma_in_place(d, center) / std::sqrt(2.0f);
    });
    std::erase(sigmas, 0.0f);
    return sigmas.empty() ? 0 : median_in_place(sigmas);
}

/// Mean 1 in each colour, whatever dead or hot pixels say.
void normalise_colours(Image& pixels, const CfaPattern& cfa, const Workers& workers) {
    const bool planes = pixels.planes() == 3;
    const auto rows = static_cast<std::size_t>(pixels.planes()) * static_cast<std::size_t>(pixels.height());
    // Calls f(row, first pixel of the row, in steps of, colour) for each colour of a row of a plane.
    const auto each_colour = [&](std::size_t k, auto f) {
        const int p = static_cast<int>(k) / pixels.height(), y = static_cast<int>(k) % pixels.height();
        const int period = planes || cfa.empty() ? 1 : cfa.period();
        for (int x = 0; x < period; ++x)
            f(pixels.plane(p).row(y), x, period, static_cast<std::size_t>(planes ? p : cfa.colour(x, y)));
    };
    struct Sums {
        std::array<double, 3> sum{}, n{};
    };
    std::vector<Sums> of_rows(rows);
    workers.for_each(rows, [&](std::size_t k) {
        each_colour(k, [&](const float* row, int first, int step, std::size_t colour) {
            double sum = 0, n = 0;
            for (int x = first; x < pixels.width(); x += step) {
                const float v = row[x];
                const bool usual = v > 0.2f && v < 3; // levelled to 1 already, up to the shape of the light
                sum += usual ? static_cast<double>(v) : 0;
                n += usual ? 1 : 0;
            }
            of_rows[k].sum[colour] += sum, of_rows[k].n[colour] += n;
        });
    });
    std::array<float, 3> factor{1, 1, 1};
    for (std::size_t c = 0; c < 3; ++c) {
        double sum = 0, n = 0;
        for (const Sums& s : of_rows)
            sum += s.sum[c], n += s.n[c];
        if (n > 0) factor[c] = static_cast<float>(n / sum);
    }
    workers.for_each(rows, [&](std::size_t k) {
        each_colour(k, [&](float* row, int first, int step, std::size_t colour) {
            for (int x = first; x < pixels.width(); x += step)
                row[x] *= factor[colour];
        });
    });
}

/// From edge to edge, of a finished master.
double gradient_of(const Image& pixels, const CfaPattern& cfa) {
    std::vector<float> blocks, block;
    const int rows = std::min(kSampleRows, pixels.height());
    for (int i = 0; i < rows; ++i) {
        const int y = sample_row(i, rows, pixels.height());
        for (int b = 0; b < kBlocksAcross; ++b) {
            block.clear();
            const int own = cfa.colour(0, y); // every second pixel of a mosaic's row: one colour
            for (int x = b * pixels.width() / kBlocksAcross; x < (b + 1) * pixels.width() / kBlocksAcross; ++x)
                if (cfa.empty() || cfa.colour(x, y) == own) block.push_back(pixels(x, y));
            blocks.push_back(finite_median(block));
        }
    }
    const auto [centre, x, y] = fit_tilt(blocks);
    return 2 * std::max(std::abs(x), std::abs(y));
}

/// The steps of a master, with what decides them.
Provenance account_of(Role role, bool offset, const CombinationChoice& choice) {
    Provenance made;
    if (role == Role::flat)
        made.step("level").text = std::string(offset ? "offset removed, " : "") +
                                  "each frame brought to one level by colour and to the common tilt; mean 1 in each "
                                  "colour";
    made.steps.push_back(combine_step(choice));
    return made;
}

MasterResult build(Role role, const std::vector<std::shared_ptr<const FrameReader>>& frames, const FrameReader* offset,
                   const Context& context, const MasterOptions& options) {
    const FrameReader& first = *frames.front();
    const int width = first.width(), height = first.height(), planes = first.planes();
    for (const auto& f : frames)
        if (f->width() != width || f->height() != height || f->planes() != planes)
            throw UnfitError(fmt::format("is {} x {} pixels{}; {} is {} x {}{}", f->width(), f->height(),
                                         f->planes() == 3 ? " in colour" : "", first.path().filename().string(), width,
                                         height, planes == 3 ? " in colour" : ""),
                             f->path(), "Keep frames of different cameras or binnings apart");
    const bool flat = role == Role::flat;
    const CfaPattern cfa = planes == 1 ? options.cfa : CfaPattern{};
    const FrameReader* subtract = flat ? offset : nullptr;
    const float constant = flat && !offset ? options.offset_level : 0;
    const std::size_t count = frames.size();

    // Levels, tilts and noise, from a sample.
    const Sampling how{subtract, constant, cfa, flat};
    std::vector<FrameSample> samples(count);
    context.workers.for_each(count, [&](std::size_t f) { samples[f] = sample_frame(*frames[f], how); });
    const auto colours = static_cast<std::size_t>(colours_of(first, cfa));
    if (flat) {
        for (std::size_t f = 0; f < count; ++f)
            for (std::size_t c = 0; c < colours; ++c) {
                if (!(samples[f].level[c] > 3 * samples[f].noise))
                    throw UnfitError(
                        fmt::format("there is no light on this flat (level {:g} above its offset, noise {:g})",
                                    samples[f].level[c], samples[f].noise),
                        frames[f]->path(), "Remove it, or move it to the darks");
                samples[f].scale[c] = 1 / samples[f].level[c];
            }
        if (count > 1) find_tilts(samples);
    }
    MasterResult result;
    result.pixels = Image(width, height, planes);
    result.frames = static_cast<int>(count);
    std::vector<float> levels;
    for (std::size_t c = 0; c < colours; ++c) {
        levels.clear();
        for (const FrameSample& s : samples)
            levels.push_back(s.level[c]);
        const auto [least, most] = std::minmax_element(levels.begin(), levels.end());
        const double spread = *most - *least, level = median_in_place(levels);
        if (colours > 1) result.colour_levels.push_back(level);
        result.level += level / static_cast<double>(colours);
        result.level_spread = std::max(result.level_spread, flat && level > 0 ? spread / level : spread);
    }
    if (count > 1) result.frame_noise = difference_sigma(frames, samples, how, context.workers);

    const CombinationChoice combination = choose_combination(flat ? StackOf::flats : StackOf::darks, result.frames);
    result.made = account_of(role, subtract || constant != 0, combination);
    StackExpectation expected{std::vector<FrameExpectation>(count), 0, result.frame_noise > 0};
    const auto variance = static_cast<float>(std::max(1e-12, result.frame_noise * result.frame_noise));
    for (FrameExpectation& e : expected.frames)
        e.variance = variance;
    const Combiner combiner(std::move(expected), combination.options);

    // Bands of whole rows, sized by the budget: the samples of all frames, and their mapped pages.
    const std::uint64_t row_bytes = (count + 2) * static_cast<std::uint64_t>(width) * (sizeof(float) + 2);
    const std::uint64_t share = std::max<std::uint64_t>(context.memory.for_buffers() / 2, 1) /
                                static_cast<std::uint64_t>(context.workers.threads());
    constexpr std::uint64_t kInCache = 2u << 20; // bytes of samples that the processor keeps at hand
    const int band = static_cast<int>(std::clamp<std::uint64_t>(std::min(share, kInCache) / row_bytes, 1, 64));
    const int bands = (height + band - 1) / band;
    const std::uint64_t mapped_limit = std::max<std::uint64_t>(context.memory.for_buffers() / 4, 32u << 20);
    std::atomic<std::uint64_t> rejected{0}, mapped{0};
    context.workers.for_each(static_cast<std::size_t>(bands * planes), [&](std::size_t job) {
        const int plane = static_cast<int>(job) / bands, b = static_cast<int>(job) % bands;
        const Region region{0, b * band, width, std::min(band, height - b * band)};
        const std::ptrdiff_t pixels = region.area();
        const auto area = static_cast<std::size_t>(pixels);
        const auto block = std::make_unique_for_overwrite<float[]>(area * count);
        std::vector<float> dark(area, constant), weight(area);
        std::vector<std::uint16_t> low(area), high(area);
        if (subtract) subtract->read(region, {dark.data(), width, region.height, width}, plane);
        for (std::size_t f = 0; f < count; ++f) {
            float* to = block.get() + static_cast<std::ptrdiff_t>(f) * pixels;
            frames[f]->read(region, {to, width, region.height, width}, plane);
            if (!flat) continue;
            const Levelling level(samples[f], width, height, cfa, planes == 3);
            for (int y = 0; y < region.height; ++y)
                level.apply(region.y + y, plane, dark.data() + static_cast<std::ptrdiff_t>(y) * width,
                            to + static_cast<std::ptrdiff_t>(y) * width);
        }
        float* out = result.pixels.plane(plane).row(region.y);
        combiner.combine({block.get(), static_cast<int>(count), pixels, static_cast<int>(pixels)},
                         {out, weight.data(), low.data(), high.data()});
        std::uint64_t n = 0;
        for (std::size_t i = 0; i < area; ++i)
            n += low[i] + high[i];
        rejected += n;
        context.progress.advance(pixels);
        // Mapped pages count as ours: give them back before they outgrow their share.
        if ((mapped += frames.front()->mapped_bytes(region) * count) > mapped_limit) {
            mapped = 0;
            for (const auto& f : frames)
                f->release();
        }
    });
    for (const auto& f : frames)
        f->release();
    result.rejected_share = static_cast<double>(rejected) / (static_cast<double>(count) * static_cast<double>(planes) *
                                                             static_cast<double>(result.pixels.bounds().area()));
    if (flat) {
        for (int p = 0; p < planes; ++p)
            result.star_pixels += patch_fixed_stars(result.pixels.plane(p), cfa, context.workers);
        normalise_colours(result.pixels, cfa, context.workers);
    }
    result.gradient = gradient_of(result.pixels, cfa);
    result.noise = result.frame_noise / std::sqrt(static_cast<double>(count) * (1 - result.rejected_share));
    return result;
}

} // namespace

MasterResult build_master(Role role, const std::vector<std::shared_ptr<const FrameReader>>& frames,
                          const FrameReader* offset, const Context& context, const MasterOptions& options) {
    if (frames.empty()) throw DataError("there are no frames to make a master from", {}, {});
    MasterResult result;
    const auto failure = attempt([&] { result = build(role, frames, offset, context, options); });
    if (!failure) return result;
    const auto bad =
        std::find_if(frames.begin(), frames.end(), [&](const auto& f) { return f->path() == failure->file; });
    if (bad == frames.end()) failure->raise();
    MasterResult failed;
    failed.failure = {static_cast<std::size_t>(bad - frames.begin()), *failure};
    return failed;
}

} // namespace kasane
