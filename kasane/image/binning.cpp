#include <kasane/image/binning.hpp>

namespace kasane {

void average_down(View<const float> image, int factor, View<float> out) {
    const auto width = static_cast<std::size_t>(out.width);
    std::vector<float> sum(width), count(width);
    for (int y = 0; y < out.height; ++y) {
        std::fill(sum.begin(), sum.end(), 0.0f);
        std::fill(count.begin(), count.end(), 0.0f);
        for (int j = 0; j < factor; ++j) {
            const float* value = image.row(y * factor + j);
            for (std::size_t x = 0; x < width; ++x)
                for (int i = 0; i < factor; ++i, ++value) {
                    const bool known = *value == *value;
                    sum[x] += known ? *value : 0.0f;
                    count[x] += known ? 1.0f : 0.0f;
                }
        }
        float* to = out.row(y);
        for (std::size_t x = 0; x < width; ++x)
            to[x] = sum[x] / count[x];
    }
}

Image averaged_down(View<const float> image, int factor) {
    Image out(image.width / factor, image.height / factor);
    average_down(image, factor, out.plane());
    return out;
}

} // namespace kasane
