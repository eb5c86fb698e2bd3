// Which samples of a stack were rejected, each of them: for whoever wants the frames themselves without them.
#pragma once

#include <kasane/base/scratch.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/integration/stack.hpp>

#include <cstdint>
#include <memory>

namespace kasane {

/// A bit for each pixel of the canvas, plane and frame; 3 MB for a plane of 24 megapixels.
class RejectedPixels {
public:
    RejectedPixels() = default;
    /// None yet. With a `scratch`, of its memory.
    RejectedPixels(const Canvas& canvas, std::size_t frames, int planes, std::shared_ptr<Scratch> scratch = nullptr);
    /// That such bits take.
    static std::uint64_t bytes(const Canvas& canvas, std::size_t frames, int planes);

    /// Of a sample inside the canvas. Thread-safe.
    void add(std::size_t frame, int plane, int x, int y);
    /// False beyond the canvas. Not while others add.
    bool at(std::size_t frame, int plane, int x, int y) const;
    /// Of all planes of a frame.
    std::uint64_t count(std::size_t frame) const;

private:
    std::size_t word_of(std::size_t frame, int plane, int x, int y) const;
    int width_ = 0, height_ = 0, planes_ = 0;
    std::size_t line_ = 0; ///< words of a row
    PixelStore<std::uint32_t> words_;
};

} // namespace kasane
