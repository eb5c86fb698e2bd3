#include <kasane/integration/drop_kernel.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

DropKernel::DropKernel(DropShape shape, double drop, double side) {
    constexpr double kFarOut = 3; // sigma
    double reach = 0, integral = 0;
    numbers_.square = shape == DropShape::square;
    if (numbers_.square) {
        reach = 0.5 * (drop + side);
        numbers_.most = static_cast<float>(std::min(drop, side));
        integral = drop * side;
    } else {
        const double sigma = drop / kFwhmPerSigma;
        reach = kFarOut * sigma;
        numbers_.narrow = static_cast<float>(-0.5 / (sigma * sigma));
        integral = sigma * std::sqrt(2 * kPi) * std::erf(kFarOut / std::sqrt(2.0));
    }
    numbers_.reach = static_cast<float>(reach);
    numbers_.unit = static_cast<float>(1 / integral);
    taps_ = std::clamp(2 * static_cast<int>(std::ceil(reach)), 2, kMostTaps);
}

float DropKernel::at(float distance) const {
    const float far = std::abs(distance);
    if (numbers_.square) return numbers_.unit * std::clamp(numbers_.reach - far, 0.0f, numbers_.most);
    return far < numbers_.reach ? numbers_.unit * std::exp(numbers_.narrow * far * far) : 0.0f;
}

} // namespace kasane
