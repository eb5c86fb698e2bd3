#include <kasane/grading/measures.hpp>

#include <kasane/base/error.hpp>
#include <kasane/grading/obstruction.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/stars/sky_mean.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr BackgroundOptions kOwnPixels{.noise = {}}; ///< no neighbours share noise

/// `tops` becomes the highest values of the rows.
void read_sensor(const CalibratedView& view, Image& pixels, std::vector<float>& tops) {
    if (pixels.bounds() != view.bounds() || pixels.planes() != 1) {
        pixels = Image(); // not two of them at a time
        pixels = Image(view.width(), view.height());
    }
    tops.clear();
    for_each_band(view.bounds(), [&](const Region& all) {
        // Few, for a defect in the first or last row has its neighbours read once more; and at hand for what follows.
        constexpr int kPixels = 1 << 17;
        const int rows = std::clamp(kPixels / view.width(), 1, all.height);
        for (int y = all.y; y < all.bottom(); y += rows) {
            const Region band = intersect({0, y, all.width, rows}, all);
            view.read(band, pixels.plane().crop(band));
            for (int row = band.y; row < band.bottom(); ++row)
                tops.push_back(highest_of(pixels.plane().row(row), static_cast<std::size_t>(band.width)));
        }
        view.release();
    });
}

Measures from_list(StarList list) {
    Measures m;
    m.count = list.count;
    m.threshold = list.threshold;
    m.fwhm = list.fwhm;
    m.eccentricity = list.eccentricity;
    m.angle = list.angle;
    m.alignment = list.alignment;
    m.background = list.background.global_level;
    m.noise = list.noise;
    m.mesh = std::move(list.background);
    m.stars = std::move(list.stars);
    return m;
}

/// The stars of one plane measured in another, whose pixels may lie beside it.
Measures measure_as(const Measures& green, View<const float> plane, Background mesh, const DetectOptions& detect) {
    Measures m = green;
    m.mesh = std::move(mesh);
    m.background = m.mesh.global_level;
    m.noise = m.mesh.global_sigma;
    measure_fluxes(plane, m.mesh, green.fwhm, detect, m.stars);
    return m;
}

void move_stars(Measures& m, const std::array<double, 2>& by) {
    for (Star& s : m.stars) {
        s.x += by[0];
        s.y += by[1];
    }
}

/// Share of pixels at or above saturation, by cells of the mesh.
/// `tops`: the highest values of the rows where they are known, else empty.
Image saturated_share(View<const float> pixels, const Background& mesh, float saturation,
                      const std::vector<float>& tops) {
    Image share(mesh.level.width(), mesh.level.height());
    if (!(saturation > 0)) return share;
    const auto end = [&](int k, int cells, int size) { return k + 1 == cells ? size : (k + 1) * mesh.cell; };
    for (int y = 0; y < pixels.height; ++y) {
        const int j = std::min(y / mesh.cell, share.height() - 1);
        const float top = tops.empty() ? highest_of(pixels.row(y), static_cast<std::size_t>(pixels.width))
                                       : tops[static_cast<std::size_t>(y)];
        if (!(top >= saturation)) continue;
        for (int i = 0; i < share.width(); ++i) {
            const int x = i * mesh.cell, width = end(i, share.width(), pixels.width) - x;
            share(i, j) += static_cast<float>(
                count_at_least(pixels.row(y) + x, saturation, static_cast<std::size_t>(std::max(0, width))));
        }
    }
    for (int j = 0; j < share.height(); ++j)
        for (int i = 0; i < share.width(); ++i) {
            const int width = end(i, share.width(), pixels.width) - i * mesh.cell,
                      height = end(j, share.height(), pixels.height) - j * mesh.cell;
            share(i, j) /= std::max(1.0f, static_cast<float>(width) * static_cast<float>(height));
        }
    return share;
}

void give_size(Image& image, int width, int height) {
    if (image.width() != width || image.height() != height) image = Image(width, height);
}

/// One colour of a mosaic, the others without data.
void take_colour(const Image& mosaic, const CfaPattern& cfa, int colour, Image& samples) {
    give_size(samples, mosaic.width(), mosaic.height());
    for (int y = 0; y < mosaic.height(); ++y) {
        float* to = samples.plane().row(y);
        std::copy_n(mosaic.plane().row(y), mosaic.width(), to);
        for (int phase = 0; phase < cfa.period(); ++phase)
            if (cfa.colour(phase, y) != colour)
                for (int x = phase; x < mosaic.width(); x += cfa.period())
                    to[x] = kNoData;
    }
}

/// A colour of which a checkered pattern has one pixel in four, without the others: half as wide and half as high.
void take_quarter(const Image& mosaic, const CfaPattern& cfa, int colour, Image& samples) {
    give_size(samples, mosaic.width() / 2, mosaic.height() / 2);
    const int right = cfa.colour(1, 0) == colour || cfa.colour(1, 1) == colour,
              below = cfa.colour(0, 1) == colour || cfa.colour(1, 1) == colour;
    for (int y = 0; y < samples.height(); ++y)
        take_every(mosaic.plane().row(2 * y + below) + right, 2, static_cast<std::size_t>(2 * samples.width() - right),
                   samples.plane().row(y));
}

/// Means of the neighbours beside, above and below where there are no samples: bilinear for green.
void fill_gaps(View<const float> samples, View<float> filled) {
    const auto mean_around = [&](int x, int y) {
        float sum = 0, count = 0;
        const auto add = [&](int i, int j) {
            if (i < 0 || j < 0 || i >= samples.width || j >= samples.height) return;
            if (const float v = samples(i, j); v == v) {
                sum += v;
                ++count;
            }
        };
        add(x - 1, y);
        add(x + 1, y);
        add(x, y - 1);
        add(x, y + 1);
        return sum / count;
    };
    for (int y = 0; y < samples.height; ++y) {
        const float* row = samples.row(y);
        float* to = filled.row(y);
        std::copy_n(row, samples.width, to);
        if (y > 0 && y + 1 < samples.height) { // most have all four
            const float *above = samples.row(y - 1), *below = samples.row(y + 1);
            for (int x = 1; x + 1 < samples.width; ++x) {
                const float mean = (row[x - 1] + row[x + 1] + above[x] + below[x]) / 4;
                to[x] = row[x] == row[x] ? row[x] : mean;
            }
        }
        if (!any_gap(to, static_cast<std::size_t>(samples.width))) continue;
        for (int x = 0; x < samples.width; ++x)
            if (to[x] != to[x]) to[x] = mean_around(x, y);
    }
}

/// One exposure on its way to its measures.
class Measuring {
public:
    Measuring(const FrameView& view, const MeasureOptions& options, MeasureRoom& room)
        : view_(view), o_(options), room_(room) {}

    ExposureMeasures run(Raster<std::uint8_t>* preview) {
        out_.width = view_.width();
        out_.height = view_.height();
        out_.planes.resize(static_cast<std::size_t>(view_.planes()));
        const CalibratedView& source = view_.source();
        settle_saturation(source);
        FrameView corrected = view_;
        if (source.planes() != 1) room_.pixels = Image(); // of no use here
        if (source.planes() == 1) {
            sensor_ = std::move(room_.pixels);
            read_sensor(source, sensor_, tops_);
            OwnCorrectionOptions own = o_.own;
            own.saturation = o_.detect.saturation;
            out_.own = find_own_corrections(sensor_.plane(), source.calibration().cfa, own, tops_);
            if (!out_.own.empty()) {
                CalibrationSet set = source.calibration();
                set.own = std::make_shared<const OwnCorrections>(out_.own);
                const auto again = std::make_shared<const CalibratedView>(source.shared_raw(), std::move(set));
                corrected = FrameView(again, view_.method());
                read_sensor(*again, sensor_, tops_);
            }
        }
        if (view_.interpolated()) {
            measure_mosaic();
        } else {
            const bool other_planes = sensor_.empty() || !source.calibration().cfa.empty();
            if (other_planes) tops_.clear();
            planes_ = other_planes ? read_planes(corrected) : std::move(sensor_);
            measure_planes(planes_);
        }
        for (int p = 0; p < view_.planes(); ++p)
            settle(p);
        const Measures& main = out_.main();
        const int at = main_plane(view_.planes());
        out_.streaks = find_streaks({small_.plane(at), factor_, main.mesh, main.stars, main.fwhm}, o_.streaks);
        take_means();
        out_.darkened_edge = darkened_edge(small_.plane(at));
        out_.preview_scale = choose_preview_scale(small_, factor_);
        if (preview) *preview = encode_preview(small_, out_.preview_scale);
        for (int p = 0; p < view_.planes(); ++p)
            move_stars(out_.planes[static_cast<std::size_t>(p)], view_.shift(p));
        room_.pixels = std::move(sensor_.empty() && planes_.planes() == 1 ? planes_ : sensor_);
        return std::move(out_);
    }

private:
    /// From raw pixels to calibrated ones, which may be a little lower by the flat.
    void settle_saturation(const CalibratedView& source) {
        out_.pile = find_pile_up(source.raw());
        float& full = o_.detect.saturation;
        if (out_.pile.piled && (full <= 0 || out_.pile.top < full)) full = out_.pile.top;
        constexpr float kUsable = 0.92f;
        if (full > 0) full = std::max(1e-3f, kUsable * full - level_without_light(source));
    }
    /// That calibration takes away, ADU.
    static float level_without_light(const CalibratedView& source) {
        const CalibrationSet& c = source.calibration();
        if (!c.dark) return c.offset_level;
        std::vector<float> row(static_cast<std::size_t>(c.dark->width()));
        c.dark->read({0, c.dark->height() / 2, c.dark->width(), 1}, {row.data(), c.dark->width(), 1, c.dark->width()});
        const float level = median_in_place(row);
        return std::isfinite(level) ? level : 0;
    }

    void settle(int plane) {
        Measures& m = out_.planes[static_cast<std::size_t>(plane)];
        const ExpectedNoise expected = expected_noise(view_, plane, m.mesh, o_.sensor);
        const FrameNoise noise = settle_noise(expected.sigma, m.mesh);
        m.noise = noise.sigma;
        m.noise_from_level = noise.from_level;
        m.flat_noise_share = expected.flat_share;
    }

    int preview_factor(int least) const {
        const int longest = std::max(view_.width(), view_.height());
        return std::max({1, least, (longest + o_.preview_size - 1) / std::max(1, o_.preview_size)});
    }
    void begin_preview(int factor) {
        factor_ = factor;
        small_ = Image(view_.width() / factor, view_.height() / factor, view_.planes());
    }
    void keep_brightest(Measures& m) const {
        if (m.stars.size() > static_cast<std::size_t>(o_.kept_stars))
            m.stars.resize(static_cast<std::size_t>(o_.kept_stars));
    }

    /// Each colour on its own samples: no demosaicing, which would widen stars and mix colours.
    void measure_mosaic() {
        const CfaPattern& cfa = view_.source().calibration().cfa;
        int greens = 0;
        for (int i = 0; i < cfa.period() * cfa.period(); ++i)
            greens += cfa.colour(i % cfa.period(), i / cfa.period()) == 1;
        const int cell = cfa.cell(), factor = preview_factor(cell);
        begin_preview((factor + cell - 1) / cell * cell); // as many samples of a colour in each
        Image& samples = room_.samples;
        for (const int colour : {1, 0, 2}) {
            take_colour(sensor_, cfa, colour, samples);
            Background mesh = measure_colour_sky(cfa, colour, samples);
            Measures& m = out_.planes[static_cast<std::size_t>(colour)];
            if (colour == 1) {
                Image& filled = room_.filled;
                give_size(filled, sensor_.width(), sensor_.height());
                fill_gaps(samples.plane(), filled.plane());
                const float density = static_cast<float>(greens) / static_cast<float>(cfa.period() * cfa.period());
                out_.saturated = saturated_share(sensor_.plane(), mesh, o_.detect.saturation, tops_);
                m = from_list(detect_stars({filled.plane(), samples.plane(), std::move(mesh), density}, o_.detect));
                keep_brightest(m);
            } else {
                m = measure_as(out_.main(), samples.plane(), std::move(mesh), o_.detect);
            }
        }
    }

    /// The mesh of a colour's sky, and its preview. `samples`: the colour on the sensor's grid.
    Background measure_colour_sky(const CfaPattern& cfa, int colour, const Image& samples) {
        const BackgroundOptions gaps{.noise = cfa.steps(colour), .step = 1};
        if (colour == 1 || !cfa.checkered() || samples.width() < 2 || samples.height() < 2) {
            average_down(samples.plane(), factor_, small_.plane(colour));
            return measure_background(samples.plane(), gaps);
        }
        Image& quarter = room_.quarter;
        take_quarter(sensor_, cfa, colour, quarter);
        average_down(quarter.plane(), factor_ / cfa.cell(), small_.plane(colour));
        Background mesh =
            measure_background(quarter.plane(), {.cell = gaps.cell / 2, .noise = NoiseSteps::apart(1), .step = 1});
        mesh.cell = gaps.cell;
        return mesh;
    }

    /// When stars and streaks are known.
    void take_means() {
        const CfaPattern& cfa = view_.source().calibration().cfa;
        Image& samples = room_.samples;
        for (int p = 0; p < view_.planes(); ++p) {
            Measures& m = out_.planes[static_cast<std::size_t>(p)];
            const SkyCover cover{m.stars, out_.main().fwhm, out_.streaks, view_.interpolated() ? 1 : 2,
                                 o_.detect.saturation};
            if (view_.interpolated()) take_colour(sensor_, cfa, p, samples);
            m.mesh.means =
                mean_sky(view_.interpolated() ? std::as_const(samples).plane() : std::as_const(planes_).plane(p),
                         m.mesh, cover, &room_.cover);
        }
    }

    void measure_planes(const Image& pixels) {
        const bool separate = view_.method() == ColourMethod::separate;
        const int planes = view_.planes(), main = main_plane(planes);
        begin_preview(preview_factor(1));
        for (int p = 0; p < planes; ++p) {
            average_down(pixels.plane(p), factor_, small_.plane(p));
            if (p != main && !separate) continue;
            Measures& m = out_.planes[static_cast<std::size_t>(p)];
            const View<const float> plane = pixels.plane(p); // its pixels are the sensor's own: they share no noise
            m = from_list(detect_stars({plane, plane, measure_background(plane, kOwnPixels)}, o_.detect));
            keep_brightest(m);
        }
        for (int p = 0; p < planes; ++p)
            if (p != main && !separate) {
                const auto s = view_.shift(p);
                Measures green = out_.main();
                move_stars(green, {-s[0], -s[1]});
                out_.planes[static_cast<std::size_t>(p)] =
                    measure_as(green, pixels.plane(p), measure_background(pixels.plane(p), kOwnPixels), o_.detect);
            }
        out_.saturated = saturated_share(pixels.plane(main), out_.main().mesh, o_.detect.saturation, tops_);
    }

    const FrameView& view_;
    MeasureOptions o_;
    MeasureRoom& room_;
    ExposureMeasures out_;
    Image sensor_, planes_, small_;
    std::vector<float> tops_; ///< highest values of the rows of sensor_, and of planes_ where they are the same
    int factor_ = 1;
};

} // namespace

std::string MeasureOptions::check() const {
    for (std::string wrong : {detect.check(), own.check(), streaks.check(), sensor.check()})
        if (!wrong.empty()) return wrong;
    if (kept_stars < 1 || preview_size < 1)
        return fmt::format("{} stars and a preview of {} pixels cannot be kept", kept_stars, preview_size);
    return {};
}

ExposureMeasures measure_exposure(const FrameView& view, const MeasureOptions& options, Raster<std::uint8_t>* preview,
                                  MeasureRoom* room) {
    require_sense(options);
    MeasureRoom own;
    return Measuring(view, options, room ? *room : own).run(preview);
}

} // namespace kasane
