// Planar float32 images, strided views of them, and rectangles.
//
// The room holds, beside this:
//   binning.hpp            images averaged down by a whole factor
//   peaks.hpp              the highest values by squares of an image
//   positions.hpp          fixed point, split; even_lanes-inl.hpp: by vectors, for kernels
//   plane_source.hpp       a promise of pixels, with quality bits: what integration reads
//   region_text.hpp        rectangles as text; polygon.hpp: polygons on pixels
//   resample.hpp           Lanczos-3 interpolation
//   row_arithmetic.hpp     loops over rows that every frame goes through
//   robust_fit.hpp         least squares, and what to do about outliers
//   statistics.hpp         the one median, the one MAD, clipped statistics
//   statistics_kernel.hpp  their inner loops
//   stretch.hpp            from linear values to a screen
#pragma once

#include <kasane/base/scratch.hpp>

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <type_traits>
#include <utility>
#include <vector>

namespace kasane {

/// A rectangle of pixels; (x, y) is its first pixel, x right, y down in memory.
struct Region {
    int x = 0;
    int y = 0;
    int width = 0;
    int height = 0;

    int right() const { return x + width; }   ///< one past the last column
    int bottom() const { return y + height; } ///< one past the last row
    bool empty() const { return width <= 0 || height <= 0; }
    std::int64_t area() const { return empty() ? 0 : static_cast<std::int64_t>(width) * height; }
    bool contains(const Region& r) const {
        return r.x >= x && r.y >= y && r.right() <= right() && r.bottom() <= bottom();
    }
    bool operator==(const Region&) const = default;
};

inline Region intersect(const Region& a, const Region& b) {
    const int x = std::max(a.x, b.x), y = std::max(a.y, b.y);
    return {x, y, std::max(0, std::min(a.right(), b.right()) - x), std::max(0, std::min(a.bottom(), b.bottom()) - y)};
}

/// Pixels owned by somebody else: `height` rows of `width` values, `stride` values apart.
template <class T>
struct View {
    T* data = nullptr;
    int width = 0;
    int height = 0;
    std::ptrdiff_t stride = 0;

    T* row(int y) const { return data + y * stride; }
    T& operator()(int x, int y) const { return data[y * stride + x]; }
    View crop(const Region& r) const { return {data + r.y * stride + r.x, r.width, r.height, stride}; }
    Region bounds() const { return {0, 0, width, height}; }
    operator View<const T>() const requires(!std::is_const_v<T>) { return {data, width, height, stride}; }
};

/// Storage for `planes` planes of T, contiguous, row by row.
template <class T>
class Raster {
public:
    Raster() = default;
    /// With a `scratch`, of its memory; copies are on the heap all the same.
    Raster(int width, int height, int planes = 1, T value = T{}, std::shared_ptr<Scratch> scratch = nullptr)
        : width_(width), height_(height), planes_(planes),
          pixels_(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * static_cast<std::size_t>(planes),
                  value, std::move(scratch)) {}

    int width() const { return width_; }
    int height() const { return height_; }
    int planes() const { return planes_; }
    bool empty() const { return pixels_.empty(); }
    Region bounds() const { return {0, 0, width_, height_}; }
    using Pixels = PixelStore<T>;
    Pixels& pixels() { return pixels_; }
    const Pixels& pixels() const { return pixels_; }

    View<T> plane(int p = 0) { return {pixels_.data() + offset(p), width_, height_, width_}; }
    View<const T> plane(int p = 0) const { return {pixels_.data() + offset(p), width_, height_, width_}; }
    T& operator()(int x, int y, int p = 0) { return plane(p)(x, y); }
    const T& operator()(int x, int y, int p = 0) const { return plane(p)(x, y); }

private:
    std::size_t offset(int p) const {
        return static_cast<std::size_t>(p) * static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_);
    }
    int width_ = 0;
    int height_ = 0;
    int planes_ = 0;
    Pixels pixels_;
};

/// The plane that speaks for an image of so many: green of three, which has most of the light.
inline int main_plane(int planes) {
    return planes == 3 ? 1 : 0;
}

/// Values in ADU of the raw file unless said otherwise; NaN = no data.
using Image = Raster<float>;
/// 0 = clear; the meaning of other values is the user's.
using Mask = Raster<std::uint8_t>;

} // namespace kasane
