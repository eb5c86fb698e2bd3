#include <kasane/finishing/sharpen_picture.hpp>

#include <algorithm>

namespace kasane {

namespace {

constexpr int kSide = 160, kTwice = 2, kLine = 4;

Image copy_of(View<const float> plane, const Region& part) {
    Image out(part.width, part.height);
    for (int y = 0; y < part.height; ++y)
        std::copy_n(plane.row(part.y + y) + part.x, part.width, out.plane().row(y));
    return out;
}

void paste(const Raster<std::uint8_t>& from, int x, int y, Raster<std::uint8_t>& to) {
    for (int j = 0; j < kTwice * from.height(); ++j)
        for (int i = 0; i < kTwice * from.width(); ++i)
            to(x + i, y + j) = from(i / kTwice, j / kTwice);
}

} // namespace

SharpeningPicture::SharpeningPicture(View<const float> before, const StarList& stars, const std::vector<Disc>& tops)
    : stretch_(choose_stretch(before)) {
    const int w = std::min(kSide, before.width), h = std::min(kSide, before.height);
    const auto add = [&](double x, double y) {
        const Region place{std::clamp(static_cast<int>(x) - w / 2, 0, before.width - w),
                           std::clamp(static_cast<int>(y) - h / 2, 0, before.height - h), w, h};
        for (const Region& other : places_)
            if (std::abs(other.x - place.x) < w / 2 && std::abs(other.y - place.y) < h / 2) return;
        places_.push_back(place);
    };
    add(0.5 * before.width, 0.5 * before.height);
    if (const std::size_t n = stars.stars.size(); n > 0) {
        constexpr std::size_t kBrighter = 10;
        add(stars.stars[n / kBrighter].x, stars.stars[n / kBrighter].y);
        add(stars.stars.front().x, stars.stars.front().y);
    }
    if (!tops.empty()) {
        const Disc& widest = *std::max_element(tops.begin(), tops.end(),
                                               [](const Disc& a, const Disc& b) { return a.radius < b.radius; });
        add(widest.x, widest.y);
    }
    for (const Region& p : places_)
        before_.push_back(copy_of(before, p));
}

Raster<std::uint8_t> SharpeningPicture::draw(View<const float> after) const {
    const int w = kTwice * places_.front().width, h = kTwice * places_.front().height;
    const auto count = static_cast<int>(places_.size());
    constexpr std::uint8_t kGrey = 90;
    Raster<std::uint8_t> out(count * w + (count - 1) * kLine, 2 * h + kLine, 1, kGrey);
    for (int k = 0; k < count; ++k) {
        const auto at = static_cast<std::size_t>(k);
        paste(render(before_[at].plane(), stretch_), k * (w + kLine), 0, out);
        paste(render(copy_of(after, places_[at]).plane(), stretch_), k * (w + kLine), h + kLine, out);
    }
    return out;
}

} // namespace kasane
