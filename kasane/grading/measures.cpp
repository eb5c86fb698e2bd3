#include <kasane/grading/measures.hpp>

namespace kasane {

Measures measure_exposure(const CalibratedView& view, const MeasureOptions& options) {
    Image pixels(view.width(), view.height());
    constexpr int kRows = 256; // so that the mapped file never counts whole
    for (int y = 0; y < view.height(); y += kRows) {
        const Region band{0, y, view.width(), std::min(kRows, view.height() - y)};
        view.read(band, pixels.plane().crop(band));
        view.release();
    }
    StarList list = detect_stars(pixels.plane(), options.detect);
    Measures m;
    m.fwhm = list.fwhm;
    m.eccentricity = list.eccentricity;
    m.background = list.background.global_level;
    m.noise = list.noise;
    m.mesh = std::move(list.background);
    m.stars = std::move(list.stars);
    if (m.stars.size() > static_cast<std::size_t>(options.kept_stars))
        m.stars.resize(static_cast<std::size_t>(options.kept_stars));
    return m;
}

} // namespace kasane
