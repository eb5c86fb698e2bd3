// A frame of which somebody learns what is read of it.
#pragma once

#include <kasane/io/reader.hpp>

#include <functional>

namespace kasane {

class WatchedFrame final : public FrameReader {
public:
    /// `seen` is called after each read, on the thread that read; it throws nothing.
    WatchedFrame(std::shared_ptr<const FrameReader> frame, std::function<void(const Region&)> seen)
        : frame_(std::move(frame)), seen_(std::move(seen)) {}
    const std::filesystem::path& path() const override { return frame_->path(); }
    const Header& header() const override { return frame_->header(); }
    int width() const override { return frame_->width(); }
    int height() const override { return frame_->height(); }
    int planes() const override { return frame_->planes(); }
    void read(const Region& region, View<float> out, int plane) const override {
        frame_->read(region, out, plane);
        seen_(region);
    }
    void release() const override { frame_->release(); }
    void in_passing() const override { frame_->in_passing(); }
    std::uint64_t mapped_bytes(const Region& region) const override { return frame_->mapped_bytes(region); }
    std::string check_sums() const override { return frame_->check_sums(); }
    std::unique_ptr<SumCheck> sum_check() const override { return frame_->sum_check(); }

private:
    std::shared_ptr<const FrameReader> frame_;
    std::function<void(const Region&)> seen_;
};

} // namespace kasane
