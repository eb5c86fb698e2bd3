#include <kasane/image/binning.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <numeric>

namespace kasane {

void average_down(View<const float> image, int factor, View<float> out) {
    const int width = out.width * factor;
    std::vector<float> sum(static_cast<std::size_t>(width)), count(sum.size());
    const std::vector<float> one(static_cast<std::size_t>(factor), 1.0f);
    std::vector<const float*> rows(one.size());
    const int known_width = std::min(width, image.width);
    for (int y = 0; y < out.height; ++y) {
        const int height = std::min(factor, image.height - y * factor);
        for (int j = 0; j < height; ++j)
            rows[static_cast<std::size_t>(j)] = image.row(y * factor + j);
        const bool whole = height == factor && known_width == width;
        if (whole) weighted_row(sum.data(), rows.data(), one.data(), rows.size(), sum.size());
        if (whole && !any_gap(sum.data(), sum.size())) {
            const auto number = static_cast<float>(factor * factor);
            const float* sums = sum.data();
            for (int x = 0; x < out.width; ++x, sums += factor)
                out(x, y) = std::accumulate(sums, sums + factor, 0.0f) / number;
            continue;
        }
        std::fill(sum.begin(), sum.end(), 0.0f);
        std::fill(count.begin(), count.end(), 0.0f);
        for (int j = 0; j < height; ++j) {
            const float* value = rows[static_cast<std::size_t>(j)];
            float *sums = sum.data(), *counts = count.data();
            for (int x = 0; x < known_width; ++x) {
                const bool known = value[x] == value[x];
                sums[x] += known ? value[x] : 0.0f;
                counts[x] += known ? 1.0f : 0.0f;
            }
        }
        float* to = out.row(y);
        const float *sums = sum.data(), *counts = count.data();
        for (int x = 0; x < out.width; ++x, sums += factor, counts += factor) {
            float all = 0, number = 0;
            for (int i = 0; i < factor; ++i) {
                all += sums[i];
                number += counts[i];
            }
            to[x] = all / number;
        }
    }
}

Image averaged_down(View<const float> image, int factor) {
    Image out(image.width / factor, image.height / factor);
    average_down(image, factor, out.plane());
    return out;
}

} // namespace kasane
