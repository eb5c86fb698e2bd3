#include <kasane/image/peaks.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>

namespace kasane {

void Peaks::take(View<const float> image) {
    columns_ = (image.width + kCell - 1) / kCell;
    const int rows = (image.height + kCell - 1) / kCell;
    highest_.assign(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows), kLowest);
    for (int j = 0; j < rows; ++j) {
        line_.assign(static_cast<std::size_t>(image.width), kLowest);
        float* line = line_.data();
        for (int y = j * kCell; y < std::min(image.height, (j + 1) * kCell); ++y) {
            raise_row(line, image.row(y), line_.size());
        }
        float* to = highest_.data() + static_cast<std::ptrdiff_t>(j) * columns_;
        for (int i = 0; i < columns_; ++i) {
            const float* from = line + i * kCell;
            const int n = std::min(kCell, image.width - i * kCell);
            float most = kLowest;
            for (int x = 0; x < n; ++x)
                most = most < from[x] ? from[x] : most;
            to[i] = most;
        }
    }
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
