#include <kasane/image/peaks.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>

namespace kasane {

void Peaks::take_part(View<const float> image, const Region& part) {
    const auto width = static_cast<std::size_t>(part.width);
    for (int y = part.y; y < part.bottom();) {
        const int j = y / kCell;
        line_.assign(width, kLowest);
        for (; y < std::min(part.bottom(), (j + 1) * kCell); ++y)
            raise_row(line_.data(), image.row(y) + part.x, width);
        float* const to = highest_.data() + static_cast<std::ptrdiff_t>(j) * columns_;
        for (int x = part.x; x < part.right();) {
            const int i = x / kCell;
            float most = to[i];
            for (; x < std::min(part.right(), (i + 1) * kCell); ++x) {
                const float v = line_[static_cast<std::size_t>(x - part.x)];
                most = most < v ? v : most;
            }
            to[i] = most;
        }
    }
}

void Peaks::take(View<const float> image, std::span<const Region> parts) {
    columns_ = (image.width + kCell - 1) / kCell;
    const int rows = (image.height + kCell - 1) / kCell;
    highest_.assign(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows), kLowest);
    for (const Region& part : parts)
        take_part(image, part);
    near_.resize(highest_.size());
    for (int j = 0; j < rows; ++j)
        for (int i = 0; i < columns_; ++i) {
            float most = kLowest;
            for (int b = j; b < std::min(rows, j + 2); ++b)
                for (int a = i; a < std::min(columns_, i + 3); ++a)
                    most = std::max(most, highest_[static_cast<std::size_t>(b) * static_cast<std::size_t>(columns_) +
                                                   static_cast<std::size_t>(a)]);
            near_[static_cast<std::size_t>(j) * static_cast<std::size_t>(columns_) + static_cast<std::size_t>(i)] =
                most;
        }
}

} // namespace kasane
