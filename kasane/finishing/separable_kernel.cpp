#include <kasane/finishing/separable_kernel.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// A row with `reach` more values at both ends.
void pad(const float* row, int width, int reach, std::vector<float>& out) {
    out.resize(static_cast<std::size_t>(width + 2 * reach));
    std::fill_n(out.begin(), reach, row[0]);
    std::copy_n(row, width, out.begin() + reach);
    std::fill_n(out.end() - reach, reach, row[width - 1]);
}

} // namespace

SeparableKernel::SeparableKernel(const Image& kernel) : reach_(kernel.width() / 2) {
    constexpr double kLeftOut = 0.003;
    const int side = kernel.width();
    Eigen::MatrixXd whole(side, side);
    for (int j = 0; j < side; ++j)
        for (int i = 0; i < side; ++i)
            whole(j, i) = static_cast<double>(kernel(i, j));
    const Eigen::JacobiSVD<Eigen::MatrixXd> parts(whole, Eigen::ComputeThinU | Eigen::ComputeThinV);
    Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(side, side);
    const double size = whole.cwiseAbs().sum();
    while (products_ < side && (products_ == 0 || (whole - sum).cwiseAbs().sum() > kLeftOut * size)) {
        const double root = std::sqrt(parts.singularValues()(products_));
        const Eigen::VectorXd down = root * parts.matrixU().col(products_),
                              across = root * parts.matrixV().col(products_);
        sum += down * across.transpose();
        for (int i = 0; i < side; ++i) {
            across_.push_back(static_cast<float>(across(i)));
            down_.push_back(static_cast<float>(down(i)));
        }
        ++products_;
    }
    const auto factor = static_cast<float>(whole.sum() / sum.sum());
    for (float& v : down_)
        v *= factor;
}

SeparableKernel SeparableKernel::turned() const {
    SeparableKernel out = *this;
    const std::ptrdiff_t side = 2 * reach_ + 1;
    for (std::ptrdiff_t k = 0; k < products_; ++k) {
        std::reverse(out.across_.begin() + k * side, out.across_.begin() + (k + 1) * side);
        std::reverse(out.down_.begin() + k * side, out.down_.begin() + (k + 1) * side);
    }
    return out;
}

void SeparableKernel::apply(const Image& in, Image& out, std::vector<float>& rows) const {
    const int width = in.width(), height = in.height(), side = 2 * reach_ + 1;
    const auto size = static_cast<std::size_t>(width), taps = static_cast<std::size_t>(side);
    // Product by product, all rows along themselves; then all of it down.
    rows.resize(static_cast<std::size_t>(products_) * size * static_cast<std::size_t>(height));
    const auto crossed = [&](int product, int y) {
        return rows.data() +
               (static_cast<std::size_t>(product) * static_cast<std::size_t>(height) + static_cast<std::size_t>(y)) *
                   size;
    };
    std::vector<float> padded;
    std::vector<const float*> from(taps);
    for (int y = 0; y < height; ++y) {
        pad(in.plane().row(y), width, reach_, padded);
        for (std::size_t k = 0; k < taps; ++k)
            from[k] = padded.data() + k;
        for (int p = 0; p < products_; ++p)
            weighted_row(crossed(p, y), from.data(), across_.data() + static_cast<std::size_t>(p) * taps, taps, size);
    }
    from.resize(down_.size());
    for (int y = 0; y < height; ++y) {
        for (int p = 0; p < products_; ++p)
            for (int k = 0; k < side; ++k)
                from[static_cast<std::size_t>(p * side + k)] = crossed(p, std::clamp(y + k - reach_, 0, height - 1));
        weighted_row(out.plane().row(y), from.data(), down_.data(), down_.size(), size);
    }
}

void spline_mean(const Image& in, int step, Image& out, std::vector<float>& rows) {
    constexpr float kWeights[] = {0.0625f, 0.25f, 0.375f, 0.25f, 0.0625f};
    constexpr int kTaps = 5;
    const int width = in.width(), height = in.height();
    const auto size = static_cast<std::size_t>(width);
    rows.resize(size * static_cast<std::size_t>(height));
    std::vector<float> padded;
    const float* from[kTaps];
    for (int y = 0; y < height; ++y) {
        pad(in.plane().row(y), width, 2 * step, padded);
        for (int k = 0; k < kTaps; ++k)
            from[k] = padded.data() + k * step;
        weighted_row(rows.data() + static_cast<std::size_t>(y) * size, from, kWeights, kTaps, size);
    }
    for (int y = 0; y < height; ++y) {
        for (int k = 0; k < kTaps; ++k)
            from[k] = rows.data() + static_cast<std::size_t>(std::clamp(y + (k - 2) * step, 0, height - 1)) * size;
        weighted_row(out.plane().row(y), from, kWeights, kTaps, size);
    }
}

void spread(Image& image, int reach, float sign) {
    const int width = image.width(), height = image.height();
    const auto size = static_cast<std::size_t>(width);
    if (sign < 0)
        for (float& v : image.pixels())
            v = -v;
    std::vector<float> padded;
    for (int y = 0; y < height; ++y) {
        float* row = image.plane().row(y);
        pad(row, width, reach, padded);
        for (int k = 0; k <= 2 * reach; ++k)
            raise_row(row, padded.data() + k, size);
    }
    const Image across = image;
    for (int y = 0; y < height; ++y)
        for (int j = std::max(0, y - reach); j <= std::min(height - 1, y + reach); ++j)
            raise_row(image.plane().row(y), across.plane().row(j), size);
    if (sign < 0)
        for (float& v : image.pixels())
            v = -v;
}

} // namespace kasane
