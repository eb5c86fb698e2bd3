#include <kasane/image/binning.hpp>

namespace kasane {

void average_down(View<const float> image, int factor, View<float> out) {
    const int width = out.width * factor;
    std::vector<float> sum(static_cast<std::size_t>(width)), count(sum.size());
    for (int y = 0; y < out.height; ++y) {
        std::fill(sum.begin(), sum.end(), 0.0f);
        std::fill(count.begin(), count.end(), 0.0f);
        for (int j = 0; j < factor; ++j) {
            const float* value = image.row(y * factor + j);
            float *sums = sum.data(), *counts = count.data();
            for (int x = 0; x < width; ++x) {
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
