#include <kasane/finishing/reshape.hpp>

#include <kasane/base/error.hpp>
#include <kasane/geometry/transform.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/region_text.hpp>

#include <fmt/format.h>
#include <utility>

namespace kasane {

std::string Reshape::check() const {
    if (turn != 0 && turn != 90 && turn != 180 && turn != 270)
        return "a picture is turned by 0, 90, 180 or 270 degrees";
    if (bin < 1 || bin > 16) return "pixels are binned by 1 to 16";
    return {};
}

Affine to_former(const Reshape& r, int width, int height) {
    const Region part = r.crop.empty() ? Region{0, 0, width, height} : r.crop;
    const bool swapped = r.turn == 90 || r.turn == 270;
    const double w = swapped ? part.height : part.width, h = part.height, pw = part.width;
    // The centre of a binned pixel, in pixels of the turned picture; then mirrored back, turned back, moved back.
    const double bin = r.bin, middle = 0.5 * (bin - 1);
    const auto map = [&](double x, double y) {
        double u = bin * x + middle, v = bin * y + middle;
        if (r.mirror) u = w - 1 - u;
        double a = u, b = v;
        if (r.turn == 90) a = pw - 1 - v, b = u;
        if (r.turn == 180) a = pw - 1 - u, b = h - 1 - v;
        if (r.turn == 270) a = v, b = h - 1 - u;
        return Point{a + part.x, b + part.y};
    };
    const Point o = map(0, 0), x = map(1, 0), y = map(0, 1);
    Affine out;
    out.a = x.x - o.x, out.b = y.x - o.x, out.c = o.x;
    out.d = x.y - o.y, out.e = y.y - o.y, out.f = o.y;
    return out;
}

Image reshaped(const Image& image, const Reshape& r) {
    if (const std::string wrong = r.check(); !wrong.empty()) throw UsageError(wrong, {}, {});
    const Region part = r.crop.empty() ? image.bounds() : r.crop;
    if (!image.bounds().contains(part))
        throw UsageError(fmt::format("the crop \"{}\" reaches beyond the picture", region_text(part)), {},
                         fmt::format("It has {} x {} pixels", image.width(), image.height()));
    const bool swapped = r.turn == 90 || r.turn == 270;
    Image turned(swapped ? part.height : part.width, swapped ? part.width : part.height, image.planes());
    if (turned.width() < r.bin || turned.height() < r.bin)
        throw UsageError("nothing would be left of the picture", {}, "Bin by less, or crop less");
    const Affine back = to_former({r.crop, r.turn, r.mirror, 1}, image.width(), image.height());
    const auto a = static_cast<int>(back.a), b = static_cast<int>(back.b), d = static_cast<int>(back.d),
               e = static_cast<int>(back.e), c = static_cast<int>(back.c), f = static_cast<int>(back.f);
    for (int p = 0; p < image.planes(); ++p)
        for (int y = 0; y < turned.height(); ++y)
            for (int x = 0; x < turned.width(); ++x)
                turned(x, y, p) = image(a * x + b * y + c, d * x + e * y + f, p);
    if (r.bin == 1) return turned;
    Image out(turned.width() / r.bin, turned.height() / r.bin, image.planes());
    for (int p = 0; p < image.planes(); ++p)
        average_down(turned.plane(p), r.bin, out.plane(p));
    return out;
}

void close_gaps(Mask& mask) {
    constexpr int kLongest = 24;
    const Mask before = mask;
    const auto along = [&](int lines, int length, auto&& at) {
        for (int line = 0; line < lines; ++line) {
            int last = -1; // that is
            for (int k = 0; k < length; ++k) {
                const auto [x, y] = at(line, k);
                if (!before(x, y)) continue;
                if (last >= 0 && k - last - 1 <= kLongest)
                    for (int gap = last + 1; gap < k; ++gap) {
                        const auto [u, v] = at(line, gap);
                        mask(u, v) = 1;
                    }
                last = k;
            }
        }
    };
    along(mask.height(), mask.width(), [](int line, int k) { return std::pair(k, line); });
    along(mask.width(), mask.height(), [](int line, int k) { return std::pair(line, k); });
}

Region largest_rectangle(const Mask& mask) {
    // Row by row the largest below a histogram of columns: each begins on a stack and ends where a lower one comes.
    Region best;
    std::vector<int> height(static_cast<std::size_t>(mask.width()) + 1, 0);
    std::vector<int> open; // columns of rising height
    for (int y = 0; y < mask.height(); ++y) {
        for (int x = 0; x < mask.width(); ++x) {
            int& h = height[static_cast<std::size_t>(x)];
            h = mask(x, y) ? h + 1 : 0;
        }
        open.clear();
        for (int x = 0; x <= mask.width(); ++x) {
            while (!open.empty() &&
                   height[static_cast<std::size_t>(open.back())] >= height[static_cast<std::size_t>(x)]) {
                const int tall = height[static_cast<std::size_t>(open.back())];
                open.pop_back();
                const int left = open.empty() ? 0 : open.back() + 1;
                const Region here{left, y - tall + 1, x - left, tall};
                if (here.area() > best.area()) best = here;
            }
            open.push_back(x);
        }
    }
    return best;
}

} // namespace kasane
