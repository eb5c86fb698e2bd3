// A frame without a file: pixels that were made or read elsewhere, behind the face of a reader.
#pragma once

#include <kasane/io/reader.hpp>

#include <algorithm>

namespace kasane {

class MemoryFrame final : public FrameReader {
public:
    explicit MemoryFrame(Image image, Header header = {}) : image_(std::move(image)), header_(std::move(header)) {}
    const std::filesystem::path& path() const override { return path_; }
    const Header& header() const override { return header_; }
    int width() const override { return image_.width(); }
    int height() const override { return image_.height(); }
    int planes() const override { return image_.planes(); }
    void read(const Region& r, View<float> out, int plane) const override {
        for (int y = 0; y < r.height; ++y)
            std::copy_n(image_.plane(plane).row(r.y + y) + r.x, r.width, out.row(y));
    }

private:
    std::filesystem::path path_ = "memory";
    Image image_;
    Header header_;
};

} // namespace kasane
