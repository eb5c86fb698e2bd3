// A promise of pixels: planes of any rectangle of an image, made when they are asked for, with what each sample is made
// of.
//
// Integration reads through this and knows nothing of files or cameras: the calibrated planes of an exposure are one
// source (calibration/frame_view.hpp), a file of any format another (io/file_planes.hpp), an image in memory a third.
#pragma once

#include <kasane/image/image.hpp>

#include <algorithm>
#include <array>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <span>
#include <utility>
#include <vector>

namespace kasane {

/// What can be said of a sample, a bit each.
namespace quality {
using Bits = std::uint8_t;
inline constexpr Bits kRepaired = 1;  ///< made from its neighbours
inline constexpr Bits kSaturated = 2; ///< as much light as can be told, or more
inline constexpr Bits kEdge = 4;      ///< what it is made of lies partly outside
inline constexpr Bits kMasked = 8;    ///< a person or a mask wants it left out
inline constexpr Bits kStreak = 16;   ///< under a trail
} // namespace quality

/// The quality bits of a rectangle of one plane. Its memory is kept from one use to the next.
class QualityPlane {
public:
    /// All clear, of this size.
    void clear(int width, int height);
    void mark(int x, int y, quality::Bits bits) {
        const std::size_t place =
            static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) + static_cast<std::size_t>(x);
        if (bits_[place] == 0) places_.push_back(static_cast<std::uint32_t>(place));
        bits_[place] |= bits;
    }
    quality::Bits at(int x, int y) const {
        return bits_[static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) + static_cast<std::size_t>(x)];
    }
    /// Whether anything was marked.
    bool any() const { return !places_.empty(); }
    int width() const { return width_; }
    int height() const { return height_; }
    /// Calls f(x, y, bits) for each marked pixel, by rows.
    template <class F>
    void for_each(F f) const {
        std::vector<std::uint32_t> places = places_;
        std::sort(places.begin(), places.end());
        for (const std::uint32_t place : places)
            f(static_cast<int>(place) % width_, static_cast<int>(place) / width_, bits_[place]);
    }

private:
    std::vector<quality::Bits> bits_;
    std::vector<std::uint32_t> places_; ///< of what is marked, in no order
    int width_ = 0, height_ = 0;
};

/// What a read leaves for the next around the same place, of this source or another. Used by one thread at a time.
class ReadMemory {
public:
    virtual ~ReadMemory() = default;
    ReadMemory() = default;
    ReadMemory(const ReadMemory&) = delete;
    ReadMemory& operator=(const ReadMemory&) = delete;
};

/// Thread-safe. Results of `read` do not depend on how an image is cut into rectangles.
class PlaneSource {
public:
    virtual ~PlaneSource() = default;
    PlaneSource() = default;

    virtual int planes() const = 0;
    virtual int width() const = 0;
    virtual int height() const = 0;
    Region bounds() const { return {0, 0, width(), height()}; }
    /// The file that errors name; may be empty.
    virtual const std::filesystem::path& path() const = 0;
    /// Where a plane's samples lie against the grid, in pixels of the grid.
    virtual std::array<double, 2> shift(int /*plane*/) const { return {0, 0}; }

    /// All planes of a rectangle inside the image: `out` holds one view a plane; NaN where there is no data. `quality`
    /// is empty or holds one for each plane, which is then of the rectangle's size. Throws InputError.
    virtual void read(const Region& region, std::span<const View<float>> out,
                      std::span<QualityPlane> quality = {}) const = 0;
    /// The same, faster where `memory` holds what other frames left there; what it holds is changed, or nothing.
    void read_along(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality,
                    std::unique_ptr<ReadMemory>& memory) const {
        read_parts(region, {&region, 1}, out, quality, memory);
    }
    /// Of a rectangle no more than `parts`, which lie in it and have no pixel in common: what else there is in `out`
    /// may stay as it was, and in `quality` it may be clear.
    virtual void read_parts(const Region& region, std::span<const Region> /*parts*/, std::span<const View<float>> out,
                            std::span<QualityPlane> quality, std::unique_ptr<ReadMemory>& /*memory*/) const {
        read(region, out, quality);
    }

    /// The samples of the sensor themselves, where the planes are interpolated from them: one plane on the same grid.
    /// Null: each plane is its own samples.
    virtual const PlaneSource* sensor() const { return nullptr; }
    /// Which plane a sample of `sensor` belongs to; it repeats after at most 6 pixels, along rows and columns.
    virtual int plane_of(int /*x*/, int /*y*/) const { return 0; }

    /// Realisations of what the source makes of white noise of the sensor's samples: images of as many planes as it
    /// has, each in units of its own noise. `noise` are the standard deviations of the samples of each plane, in one
    /// unit. None where the noise of neighbours stays independent.
    virtual std::vector<Image> white_noise(std::span<const double> /*noise*/) const { return {}; }

    /// Gives back memory that reading has mapped; reading on is always possible.
    virtual void release() const {}
    /// How many bytes of mapped memory a read of `region` touches at most.
    virtual std::uint64_t mapped_bytes(const Region&) const { return 0; }

protected: // copied as what they are, never as this
    PlaneSource(const PlaneSource&) = default;
    PlaneSource& operator=(const PlaneSource&) = default;
};

/// An image in memory.
class ImagePlanes final : public PlaneSource {
public:
    explicit ImagePlanes(Image image, std::filesystem::path path = {})
        : image_(std::move(image)), path_(std::move(path)) {}
    int planes() const override { return image_.planes(); }
    int width() const override { return image_.width(); }
    int height() const override { return image_.height(); }
    const std::filesystem::path& path() const override { return path_; }
    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const override;

private:
    Image image_;
    std::filesystem::path path_;
};

/// Calls f(band) for bands of rows of a rectangle, from the top: read so, a mapped file never counts whole.
template <class F>
void for_each_band(const Region& region, F f) {
    constexpr int kRows = 256;
    for (int y = region.y; y < region.bottom(); y += kRows)
        f(Region{region.x, y, region.width, std::min(kRows, region.bottom() - y)});
}

/// All planes of a rectangle as an image, read by bands.
Image read_planes(const PlaneSource& source, const Region& region);
inline Image read_planes(const PlaneSource& source) {
    return read_planes(source, source.bounds());
}

/// The views of an image's planes, as PlaneSource::read wants them.
std::vector<View<float>> views_of(Image& image);

} // namespace kasane
