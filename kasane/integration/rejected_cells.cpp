#include <kasane/integration/rejected_cells.hpp>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

constexpr int kLeastCell = 8;    // pixels
constexpr int kMostAcross = 512; // squares
constexpr int kBlock = 256;      // pixels of the canvas over which a transform is straight

} // namespace

RejectedCellCounts::RejectedCellCounts(const std::vector<StackFrame>& frames, std::uint64_t most) : frames_(frames) {
    const std::uint64_t each = most / std::max<std::size_t>(1, frames.size());
    for (const StackFrame& f : frames) {
        const int width = f.source->width(), height = f.source->height();
        Frame one;
        one.cell = std::max(kLeastCell, (std::max(width, height) + kMostAcross - 1) / kMostAcross);
        const auto size = [&] {
            one.columns = (width + one.cell - 1) / one.cell;
            one.rows = (height + one.cell - 1) / one.cell;
            return static_cast<std::size_t>(one.columns) * static_cast<std::size_t>(one.rows);
        };
        while (size() * 2 * sizeof(std::uint16_t) > each && one.cell < std::max(width, height))
            one.cell *= 2;
        one.low.resize(size());
        one.high.resize(size());
        counts_.push_back(std::move(one));
    }
}

std::uint64_t RejectedCellCounts::bytes() const {
    std::uint64_t out = 0;
    for (const Frame& f : counts_)
        out += (f.low.size() + f.high.size()) * sizeof(std::uint16_t);
    return out;
}

RejectedCellCounts::Rectangle::Rectangle(RejectedCellCounts& counts, const Region& region) : counts_(counts) {
    left_ = region.x / kBlock;
    top_ = region.y / kBlock;
    across_ = (region.right() - 1) / kBlock - left_ + 1;
    const int down = (region.bottom() - 1) / kBlock - top_ + 1;
    blocks_ = across_ * down;
    for (const StackFrame& f : counts.frames_)
        for (int j = 0; j < down; ++j)
            for (int i = 0; i < across_; ++i)
                to_frame_.push_back(
                    f.planes.front().to_frame.at({(left_ + i + 0.5) * kBlock - 0.5, (top_ + j + 0.5) * kBlock - 0.5}));
}

void RejectedCellCounts::Rectangle::add(std::size_t frame, int x, int y, bool high) {
    const int block = (y / kBlock - top_) * across_ + x / kBlock - left_;
    Frame& f = counts_.counts_[frame];
    double u = 0, v = 0;
    to_frame_[frame * static_cast<std::size_t>(blocks_) + static_cast<std::size_t>(block)].apply(x, y, u, v);
    counts_.count(f, u, v, high, 1);
}

void RejectedCellCounts::count(Frame& f, double u, double v, bool high, int pixels) {
    const double per_cell = 1.0 / f.cell;
    const double i = (u + 0.5) * per_cell, j = (v + 0.5) * per_cell;
    if (!(i >= 0 && j >= 0 && i < f.columns && j < f.rows)) return;
    std::uint16_t& count =
        (high ? f.high
              : f.low)[static_cast<std::size_t>(j) * static_cast<std::size_t>(f.columns) + static_cast<std::size_t>(i)];
    const std::atomic_ref<std::uint16_t> shared(count);
    if (shared.load(std::memory_order_relaxed) < std::numeric_limits<std::uint16_t>::max() / 2)
        shared.fetch_add(static_cast<std::uint16_t>(pixels), std::memory_order_relaxed);
}

void RejectedCellCounts::add_sample(std::size_t frame, int x, int y, bool high, int pixels) {
    count(counts_[frame], x, y, high, pixels);
}

std::vector<RejectedCells> RejectedCellCounts::shares() const {
    std::vector<RejectedCells> out;
    for (std::size_t k = 0; k < counts_.size(); ++k) {
        const Frame& f = counts_[k];
        const StackFrame& frame = frames_[k];
        const double density =
            pixel_density(frame.planes.front().to_frame, frame.source->width(), frame.source->height());
        const double whole = static_cast<double>(f.cell) * f.cell * static_cast<double>(frame.planes.size()) / density;
        constexpr std::size_t kMost = std::numeric_limits<std::uint16_t>::max();
        std::vector<std::uint8_t> share; // by the count, up to a whole cell
        for (std::size_t n = 0; n == 0 || (n <= kMost && static_cast<double>(n) < whole + 1); ++n)
            share.push_back(static_cast<std::uint8_t>(
                std::lround(RejectedCells::kUnit * std::min(1.0, static_cast<double>(n) / whole))));
        const auto share_of = [&](const std::vector<std::uint16_t>& counts) {
            std::vector<std::uint8_t> shares(counts.size());
            std::transform(counts.begin(), counts.end(), shares.begin(),
                           [&](std::uint16_t n) { return share[std::min<std::size_t>(n, share.size() - 1)]; });
            return shares;
        };
        out.push_back({f.cell, f.columns, f.rows, share_of(f.low), share_of(f.high)});
    }
    return out;
}

} // namespace kasane
