#include <kasane/grading/small_frame.hpp>

#include <kasane/image/binning.hpp>

#include <algorithm>

namespace kasane {

namespace {

int factor_for(const FrameView& view) {
    const int longest = std::max(view.width(), view.height());
    return std::max(1, (longest + SmallFrame::kSide - 1) / SmallFrame::kSide);
}

} // namespace

SmallFrame::SmallFrame(std::shared_ptr<const FrameView> view, const Region& part, int factor)
    : view_(std::move(view)), part_(part), factor_(factor),
      pixels_(part.width / factor, part.height / factor, view_->planes()),
      begun_(static_cast<std::size_t>(part.height / factor)) {}

SmallFrame::SmallFrame(const std::shared_ptr<const FrameView>& view)
    : SmallFrame(view, view->bounds(), factor_for(*view)) {}

/// A row of squares at a time: a whole frame never counts.
void SmallFrame::draw_row(int row) {
    const Image squares = read_planes(*view_, {part_.x, part_.y + row * factor_, pixels_.width() * factor_, factor_});
    for (int p = 0; p < pixels_.planes(); ++p)
        average_down(squares.plane(p), factor_, pixels_.plane(p).crop({0, row, pixels_.width(), 1}));
}

void SmallFrame::draw(int top, int bottom) noexcept {
    const int cell = view_->cell() * factor_; // rows of the sensor in one
    const int above = part_.y * view_->cell();
    if (bottom <= above) return;
    const int first = std::max(0, (top - above) / cell),
              last = std::min(pixels_.height() - 1, (bottom - 1 - above) / cell);
    for (int row = first; row <= last; ++row) {
        std::atomic<bool>& begun = begun_[static_cast<std::size_t>(row)];
        if (begun.load(std::memory_order_relaxed) || begun.exchange(true)) continue;
        try {
            draw_row(row);
        } catch (...) { // who reads the file for a better reason will learn of it
            begun = false;
        }
    }
}

Image SmallFrame::finish() {
    for (int row = 0; row < pixels_.height(); ++row)
        if (!begun_[static_cast<std::size_t>(row)].exchange(true)) draw_row(row);
    view_->release();
    return std::move(pixels_);
}

} // namespace kasane
