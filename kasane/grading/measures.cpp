#include <kasane/grading/measures.hpp>

#include <kasane/image/statistics.hpp>

#include <cmath>

namespace kasane {

namespace {

constexpr int kRows = 256; // read at a time, so that the mapped file never counts whole

template <class Read>
void by_bands(int width, int height, Read read) {
    for (int y = 0; y < height; y += kRows)
        read(Region{0, y, width, std::min(kRows, height - y)});
}

Image read_sensor(const CalibratedView& view) {
    Image pixels(view.width(), view.height());
    by_bands(view.width(), view.height(), [&](const Region& band) {
        view.read(band, pixels.plane().crop(band));
        view.release();
    });
    return pixels;
}

Image read_planes(const FrameView& view) {
    Image pixels(view.width(), view.height(), view.planes());
    by_bands(view.width(), view.height(), [&](const Region& band) {
        std::vector<View<float>> out;
        for (int p = 0; p < view.planes(); ++p)
            out.push_back(pixels.plane(p).crop(band));
        view.read(band, out);
        view.release();
    });
    return pixels;
}

Measures from_list(StarList list) {
    Measures m;
    m.fwhm = list.fwhm;
    m.eccentricity = list.eccentricity;
    m.background = list.background.global_level;
    m.noise = list.noise;
    m.mesh = std::move(list.background);
    m.stars = std::move(list.stars);
    return m;
}

/// Noise of a single sensor pixel of a colour, which a demosaiced plane no longer shows: from differences between
/// pixels of the mosaic one period apart.
double mosaic_noise(View<const float> mosaic, const CfaPattern& cfa, int colour) {
    std::vector<float> d;
    const int period = cfa.period();
    const std::int64_t step = std::max<std::int64_t>(1, mosaic.bounds().area() / 400000);
    std::int64_t counter = 0;
    for (int y = 0; y < mosaic.height; ++y)
        for (int x = period; x + period < mosaic.width; ++x) {
            if (cfa.colour(x, y) != colour || counter++ % step) continue;
            const float v = mosaic(x - period, y) - 2 * mosaic(x, y) + mosaic(x + period, y);
            if (std::isfinite(v)) d.push_back(v);
        }
    return clipped_statistics(d, 3).sigma / std::sqrt(6.0);
}

/// The stars of one plane measured in another.
Measures measure_as(const Measures& green, View<const float> plane, const DetectOptions& detect) {
    Measures m;
    m.mesh = measure_background(plane);
    m.background = m.mesh.global_level;
    m.noise = m.mesh.global_sigma;
    m.fwhm = green.fwhm;
    m.eccentricity = green.eccentricity;
    m.stars = green.stars;
    measure_fluxes(plane, m.mesh, green.fwhm, detect, m.stars);
    return m;
}

void move_stars(Measures& m, const std::array<double, 2>& by) {
    for (Star& s : m.stars) {
        s.x += by[0];
        s.y += by[1];
    }
}

} // namespace

ExposureMeasures measure_exposure(const FrameView& view, const MeasureOptions& options) {
    ExposureMeasures out;
    OwnCorrectionOptions own = options.own;
    own.saturation = options.detect.saturation;
    const CalibratedView& source = view.source();
    const CfaPattern& cfa = source.calibration().cfa;
    Image pixels;
    std::vector<double> noise;
    FrameView corrected = view;
    if (source.planes() == 1) {
        pixels = read_sensor(source);
        out.own = find_own_corrections(pixels.plane(), cfa, own);
        if (!out.own.empty()) {
            CalibrationSet set = source.calibration();
            set.own = std::make_shared<const OwnCorrections>(out.own);
            const auto again = std::make_shared<const CalibratedView>(source.shared_raw(), std::move(set));
            corrected = FrameView(again, view.method());
            pixels = read_sensor(*again);
        }
        if (view.interpolated())
            for (int c = 0; c < 3; ++c)
                noise.push_back(mosaic_noise(pixels.plane(), cfa, c));
    }
    if (pixels.empty() || !cfa.empty()) pixels = read_planes(corrected);

    const bool separate = view.method() == ColourMethod::separate;
    const int planes = view.planes(), main = planes == 3 ? 1 : 0;
    out.planes.resize(static_cast<std::size_t>(planes));
    for (int p = 0; p < planes; ++p)
        if (p == main || separate) {
            Measures& m = out.planes[static_cast<std::size_t>(p)];
            m = from_list(detect_stars(pixels.plane(p), options.detect));
            if (m.stars.size() > static_cast<std::size_t>(options.kept_stars))
                m.stars.resize(static_cast<std::size_t>(options.kept_stars));
        }
    for (int p = 0; p < planes; ++p)
        if (p != main && !separate) {
            // On the plane's own pixels, which may lie beside the grid's.
            const auto s = view.shift(p);
            Measures green = out.planes[static_cast<std::size_t>(main)];
            move_stars(green, {-s[0], -s[1]});
            out.planes[static_cast<std::size_t>(p)] = measure_as(green, pixels.plane(p), options.detect);
        }
    for (int p = 0; p < planes; ++p) {
        Measures& m = out.planes[static_cast<std::size_t>(p)];
        move_stars(m, view.shift(p));
        if (!noise.empty()) m.noise = noise[static_cast<std::size_t>(p)];
    }
    return out;
}

} // namespace kasane
