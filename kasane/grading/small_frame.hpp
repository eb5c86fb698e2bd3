// A whole frame in small, drawn row by row while somebody reads it for another reason.
#pragma once

#include <kasane/calibration/frame_view.hpp>

#include <atomic>
#include <memory>
#include <vector>

namespace kasane {

/// A part of an exposure averaged down by a whole factor. Its rows can be drawn by several threads and in any order;
/// what comes out is the same.
class SmallFrame {
public:
    /// `part` of the view's grid, its right and lower edges cut to whole squares.
    SmallFrame(std::shared_ptr<const FrameView> view, const Region& part, int factor);
    /// All of it, with a longer side of `kSide` pixels at most.
    explicit SmallFrame(const std::shared_ptr<const FrameView>& view);
    static constexpr int kSide = 900;

    int factor() const { return factor_; }

    /// Rows `top` to below `bottom` of the sensor are at hand: draws what is made of them, unless it is drawn or being
    /// drawn. What fails is left to `finish`.
    void draw(int top, int bottom) noexcept;
    /// Draws what is missing. Nobody may draw any more. Throws InputError.
    Image finish();

private:
    void draw_row(int row);

    std::shared_ptr<const FrameView> view_;
    Region part_;
    int factor_;
    Image pixels_;
    std::vector<std::atomic<bool>> begun_; ///< by row
};

} // namespace kasane
