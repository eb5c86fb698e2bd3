// Where the samples of each frame were rejected: shares of squares of its own pixels, small enough to be kept.
#pragma once

#include <kasane/integration/stack.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// Counts while tiles are judged. Thread-safe; what is counted does not depend on tiles.
class RejectedCellCounts {
public:
    /// Squares of 8 pixels, larger where a frame is wider than 4096 pixels or many frames would take more than `most`
    /// bytes.
    explicit RejectedCellCounts(const std::vector<StackFrame>& frames, std::uint64_t most = 128u << 20);
    /// That the counts of such frames take.
    std::uint64_t bytes() const;

    /// From pixels of a rectangle of the canvas to the squares of the frames. Transforms that bend are straight over
    /// blocks of the canvas.
    class Rectangle {
    public:
        Rectangle(RejectedCellCounts& counts, const Region& region);
        /// A sample at a pixel of the canvas inside the rectangle.
        void add(std::size_t frame, int x, int y, bool high);

    private:
        RejectedCellCounts& counts_;
        int left_ = 0, top_ = 0, across_ = 0, blocks_ = 0;
        std::vector<Affine> to_frame_; ///< by frame and block
    };

    /// A sample at a pixel of the frame itself, which stands for so many of the canvas.
    void add_sample(std::size_t frame, int x, int y, bool high, int pixels);

    /// Of all planes together.
    std::vector<RejectedCells> shares() const;

private:
    struct Frame {
        int cell = 0, columns = 0, rows = 0;
        std::vector<std::uint16_t> low, high;
    };
    static void count(Frame& frame, double x, double y, bool high, int pixels);
    const std::vector<StackFrame>& frames_;
    std::vector<Frame> counts_;
};

} // namespace kasane
