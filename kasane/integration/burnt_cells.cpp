#include <kasane/integration/burnt_cells.hpp>

#include <algorithm>
#include <numeric>

namespace kasane {

BurntCells::BurntCells(int width, int height)
    : width_(width), height_(height), columns_((width + kCell - 1) / kCell), rows_((height + kCell - 1) / kCell),
      counts_(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows_)) {}

std::uint64_t BurntCells::pixels() const {
    return std::accumulate(counts_.begin(), counts_.end(), std::uint64_t{0});
}

BurntCells::Patch BurntCells::largest() const {
    Patch best;
    std::vector<std::uint8_t> seen(counts_.size());
    std::vector<int> open;
    for (int first = 0; first < columns_ * rows_; ++first) {
        if (counts_[static_cast<std::size_t>(first)] == 0 || seen[static_cast<std::size_t>(first)]) continue;
        seen[static_cast<std::size_t>(first)] = 1;
        open.assign(1, first);
        std::uint64_t pixels = 0;
        int left = columns_, right = 0, top = rows_, bottom = 0;
        while (!open.empty()) {
            const int here = open.back(), x = here % columns_, y = here / columns_;
            open.pop_back();
            pixels += counts_[static_cast<std::size_t>(here)];
            left = std::min(left, x), right = std::max(right, x), top = std::min(top, y), bottom = std::max(bottom, y);
            for (int j = std::max(0, y - 1); j <= std::min(rows_ - 1, y + 1); ++j)
                for (int i = std::max(0, x - 1); i <= std::min(columns_ - 1, x + 1); ++i) {
                    const auto beside = static_cast<std::size_t>(j * columns_ + i);
                    if (counts_[beside] == 0 || seen[beside]) continue;
                    seen[beside] = 1;
                    open.push_back(static_cast<int>(beside));
                }
        }
        if (pixels > best.pixels)
            best = {intersect({left * kCell, top * kCell, (right - left + 1) * kCell, (bottom - top + 1) * kCell},
                              {0, 0, width_, height_}),
                    pixels};
    }
    return best;
}

} // namespace kasane
