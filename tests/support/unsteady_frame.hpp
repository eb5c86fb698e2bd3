// Pixels in memory that may fail, and that tell how often they were read.
#pragma once

#include <kasane/base/error.hpp>
#include <kasane/io/memory_frame.hpp>

#include <atomic>
#include <vector>

namespace kasane::test {

class UnsteadyFrame final : public FrameReader {
public:
    explicit UnsteadyFrame(Image image)
        : rows_read(static_cast<std::size_t>(image.height())), image_(std::move(image)) {}
    const std::filesystem::path& path() const override { return image_.path(); }
    const Header& header() const override { return image_.header(); }
    int width() const override { return image_.width(); }
    int height() const override { return image_.height(); }
    int planes() const override { return image_.planes(); }
    void read(const Region& region, View<float> out, int plane) const override {
        if (gone) throw InputError("has vanished", path(), {});
        for (int y = region.y; y < region.bottom(); ++y)
            ++rows_read[static_cast<std::size_t>(y)];
        image_.read(region, out, plane);
    }

    std::atomic<bool> gone{false};
    mutable std::vector<std::atomic<int>> rows_read; ///< how often each was

private:
    MemoryFrame image_;
};

} // namespace kasane::test
