#include <kasane/image/plane_source.hpp>

#include <algorithm>

namespace kasane {

void QualityPlane::clear(int width, int height) {
    for (const std::uint32_t place : places_)
        bits_[place] = 0;
    places_.clear();
    const auto size = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
    if (size > bits_.size()) bits_.resize(size, 0); // all is clear beyond, too
    width_ = width;
    height_ = height;
}

void ImagePlanes::read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const {
    for (int p = 0; p < planes(); ++p) {
        const View<const float> from = image_.plane(p).crop(region);
        for (int y = 0; y < region.height; ++y)
            std::copy_n(from.row(y), region.width, out[static_cast<std::size_t>(p)].row(y));
    }
    for (QualityPlane& q : quality)
        q.clear(region.width, region.height);
}

std::vector<View<float>> views_of(Image& image) {
    std::vector<View<float>> views;
    for (int p = 0; p < image.planes(); ++p)
        views.push_back(image.plane(p));
    return views;
}

Image read_planes(const PlaneSource& source, const Region& region) {
    Image image(region.width, region.height, source.planes());
    for_each_band(region, [&](const Region& band) {
        std::vector<View<float>> out = views_of(image);
        for (View<float>& v : out)
            v = v.crop({0, band.y - region.y, band.width, band.height});
        source.read(band, out);
        source.release();
    });
    return image;
}

} // namespace kasane
