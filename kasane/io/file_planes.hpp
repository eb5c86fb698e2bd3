// A file of any format as a source of planes: a master light that is integrated again, a picture without stars.
#pragma once

#include <kasane/image/plane_source.hpp>
#include <kasane/io/reader.hpp>

#include <utility>

namespace kasane {

class FilePlanes final : public PlaneSource {
public:
    explicit FilePlanes(std::shared_ptr<const FrameReader> file) : file_(std::move(file)) {}
    int planes() const override { return file_->planes(); }
    int width() const override { return file_->width(); }
    int height() const override { return file_->height(); }
    const std::filesystem::path& path() const override { return file_->path(); }
    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const override {
        for (int p = 0; p < planes(); ++p)
            file_->read(region, out[static_cast<std::size_t>(p)], p);
        for (QualityPlane& q : quality)
            q.clear(region.width, region.height);
    }
    void release() const override { file_->release(); }
    std::uint64_t mapped_bytes(const Region& region) const override {
        return file_->mapped_bytes(region) * static_cast<std::uint64_t>(planes());
    }

private:
    std::shared_ptr<const FrameReader> file_;
};

} // namespace kasane
