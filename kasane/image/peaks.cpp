#include <kasane/image/peaks.hpp>

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
            const float* row = image.row(y);
            for (int x = 0; x < image.width; ++x)
                line[x] = line[x] < row[x] ? row[x] : line[x];
        }
        float* to = highest_.data() + static_cast<std::ptrdiff_t>(j) * columns_;
        for (int x = 0; x < image.width; ++x)
            to[x / kCell] = to[x / kCell] < line[x] ? line[x] : to[x / kCell];
    }
}

} // namespace kasane
