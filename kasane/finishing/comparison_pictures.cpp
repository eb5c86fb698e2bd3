#include <kasane/finishing/comparison_pictures.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr std::uint8_t kLine = 230;
constexpr int kLineWidth = 2;

void paste(const Raster<std::uint8_t>& from, const Region& part, Raster<std::uint8_t>& to, int x, int y) {
    for (int p = 0; p < to.planes(); ++p)
        for (int j = 0; j < part.height; ++j)
            for (int i = 0; i < part.width; ++i)
                to(x + i, y + j, p) = from(part.x + i, part.y + j, from.planes() == to.planes() ? p : 0);
}

int most_planes(const std::vector<Raster<std::uint8_t>>& pictures) {
    int planes = 1;
    for (const auto& p : pictures)
        planes = std::max(planes, p.planes());
    return planes;
}

} // namespace

void bring_to_level(Image& image, const std::vector<double>& sky, double unit, const std::vector<double>& other_sky) {
    for (int p = 0; p < image.planes(); ++p) {
        const auto at = static_cast<std::size_t>(p);
        const double own = sky[std::min(at, sky.size() - 1)], other = other_sky[std::min(at, other_sky.size() - 1)];
        const View<float> plane = image.plane(p);
        for (int y = 0; y < plane.height; ++y)
            for (float& v : std::span(plane.row(y), static_cast<std::size_t>(plane.width)))
                v = static_cast<float>((static_cast<double>(v) - own) / unit + other);
    }
}

Raster<std::uint8_t> beside(const std::vector<Raster<std::uint8_t>>& pictures) {
    int width = 0, height = 0;
    for (const auto& p : pictures)
        width += p.width() + (width > 0 ? kLineWidth : 0), height = std::max(height, p.height());
    Raster<std::uint8_t> out(width, height, most_planes(pictures), kLine);
    int x = 0;
    for (const auto& p : pictures) {
        paste(p, p.bounds(), out, x, 0);
        x += p.width() + kLineWidth;
    }
    return out;
}

Raster<std::uint8_t> split(const Raster<std::uint8_t>& left, const Raster<std::uint8_t>& right) {
    Raster<std::uint8_t> out(left.width(), left.height(), most_planes({left, right}), kLine);
    const int middle = left.width() / 2, from = std::min(middle + kLineWidth / 2, left.width());
    paste(left, {0, 0, std::max(0, middle - kLineWidth / 2), left.height()}, out, 0, 0);
    paste(right, {from, 0, left.width() - from, left.height()}, out, from, 0);
    return out;
}

DifferencePicture difference_picture(View<const float> one, View<const float> other, int most) {
    const int factor = std::max(1, (std::max(one.width, one.height) + most - 1) / most);
    Image difference(std::max(1, one.width / factor), std::max(1, one.height / factor), 1, kNoData);
    for (int y = 0; y < difference.height(); ++y)
        for (int x = 0; x < difference.width(); ++x) {
            double sum = 0;
            for (int j = 0; j < factor; ++j)
                for (int i = 0; i < factor; ++i) {
                    const int px = std::min(x * factor + i, one.width - 1),
                              py = std::min(y * factor + j, one.height - 1);
                    sum += static_cast<double>(other(px, py)) - static_cast<double>(one(px, py));
                }
            difference(x, y) = static_cast<float>(sum / (factor * factor));
        }
    const RobustStatistics s = image_statistics(difference.plane());
    constexpr double kSigmas = 6;
    DifferencePicture out{Raster<std::uint8_t>(difference.width(), difference.height()), 0};
    out.white = kSigmas * std::max(1e-12, static_cast<double>(s.sigma));
    for (int y = 0; y < difference.height(); ++y)
        for (int x = 0; x < difference.width(); ++x) {
            const double v = static_cast<double>(difference(x, y)) / out.white;
            constexpr double kGrey = 128, kReach = 127;
            out.pixels(x, y) = std::isfinite(v)
                                   ? static_cast<std::uint8_t>(std::lround(kGrey + kReach * std::clamp(v, -1.0, 1.0)))
                                   : 0;
        }
    return out;
}

Raster<std::uint8_t> crops(const Image& image, const std::vector<Stretch>& stretches, int side) {
    const int w = std::min(side, image.width()), h = std::min(side, image.height());
    std::vector<Raster<std::uint8_t>> parts;
    constexpr double kInside = 0.1;
    for (const auto& [fx, fy] : {std::pair(0.5, 0.5), std::pair(kInside, kInside), std::pair(1 - kInside, kInside),
                                 std::pair(kInside, 1 - kInside), std::pair(1 - kInside, 1 - kInside)}) {
        const int x = std::clamp(static_cast<int>(fx * image.width()) - w / 2, 0, image.width() - w),
                  y = std::clamp(static_cast<int>(fy * image.height()) - h / 2, 0, image.height() - h);
        Image part(w, h, image.planes());
        for (int p = 0; p < image.planes(); ++p)
            for (int j = 0; j < h; ++j)
                std::copy_n(image.plane(p).row(y + j) + x, w, part.plane(p).row(j));
        parts.push_back(render_planes(part, stretches, std::max(w, h)));
    }
    return beside(parts);
}

} // namespace kasane
