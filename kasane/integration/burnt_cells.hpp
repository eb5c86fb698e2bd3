// Pixels that are saturated in all that a stack has: how many, and where they hang together.
#pragma once

#include <kasane/image/image.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// Counts by squares of eight pixels; counts can be added in any order with the same result.
class BurntCells {
public:
    static constexpr int kCell = 8;
    BurntCells() = default;
    explicit BurntCells(int width, int height);

    void add(int x, int y) {
        ++counts_[static_cast<std::size_t>(y / kCell) * static_cast<std::size_t>(columns_) +
                  static_cast<std::size_t>(x / kCell)];
    }
    std::uint64_t pixels() const;
    /// Squares that hang together, over edges or corners.
    struct Patch {
        Region region; ///< around the squares
        std::uint64_t pixels = 0;
    };
    /// The patch with most pixels; none: empty.
    Patch largest() const;

private:
    int width_ = 0, height_ = 0, columns_ = 0, rows_ = 0;
    std::vector<std::uint8_t> counts_;
};

} // namespace kasane
