#include <kasane/integration/drop_kernel.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>

namespace kasane {

namespace {

constexpr int kMostTaps = 16;

/// Four numbers, one operation.
using Four = float __attribute__((vector_size(16)));

Four load(const float* from) {
    Four v;
    std::memcpy(&v, from, sizeof v);
    return v;
}

void add_pair(float* to, const Four& v) {
    to[0] += v[0] + v[2];
    to[1] += v[1] + v[3];
}

} // namespace

DropKernel::DropKernel(DropShape shape, double drop, double side) : shape_(shape) {
    constexpr double kFarOut = 3; // sigma
    double reach = 0, integral = 0;
    if (shape == DropShape::square) {
        reach = 0.5 * (drop + side);
        most_ = static_cast<float>(std::min(drop, side));
        integral = drop * side;
    } else {
        const double sigma = drop / kFwhmPerSigma;
        reach = kFarOut * sigma;
        narrow_ = static_cast<float>(-0.5 / (sigma * sigma));
        integral = sigma * std::sqrt(2 * kPi) * std::erf(kFarOut / std::sqrt(2.0));
    }
    reach_ = static_cast<float>(reach);
    unit_ = static_cast<float>(1 / integral);
    taps_ = std::clamp(2 * static_cast<int>(std::ceil(reach)), 2, kMostTaps);
}

float DropKernel::at(float distance) const {
    const float far = std::abs(distance);
    if (shape_ == DropShape::square) return unit_ * std::clamp(reach_ - far, 0.0f, most_);
    return far < reach_ ? unit_ * std::exp(narrow_ * far * far) : 0.0f;
}

void DropKernel::along(float place, const float* fractions, int count, float* out) const {
    if (shape_ == DropShape::gaussian) {
        for (int i = 0; i < count; ++i)
            out[i] = at(place - fractions[i]);
        return;
    }
    for (int i = 0; i < count; ++i) // vectors
        out[i] = unit_ * std::min(most_, std::max(0.0f, reach_ - std::abs(place - fractions[i])));
}

void gather_drops(const float* samples, std::ptrdiff_t stride, const Positions& positions, const DropKernel& kernel,
                  float weight, float* sums) {
    const int taps = kernel.taps(), before = taps / 2 - 1;
    constexpr int kChunk = 128;
    std::array<std::array<float, kChunk>, kMostTaps> wx, wy;
    for (int from = 0; from < positions.count; from += kChunk) {
        const int n = std::min(kChunk, positions.count - from);
        for (int k = 0; k < taps; ++k) {
            const auto place = static_cast<float>(k - before);
            kernel.along(place, positions.fraction_x + from, n, wx[static_cast<std::size_t>(k)].data());
            auto& down = wy[static_cast<std::size_t>(k)];
            kernel.along(place, positions.fraction_y + from, n, down.data());
            for (int i = 0; i < n; ++i)
                down[static_cast<std::size_t>(i)] *= weight;
        }
        for (int i = 0; i < n; ++i) {
            const auto c = static_cast<std::size_t>(i);
            const float* first =
                samples + 2 * ((positions.row[from + i] - before) * stride + positions.column[from + i] - before);
            float* to = sums + 2 * (from + i);
            if (taps == 2) {
                const Four across = {wx[0][c], wx[0][c], wx[1][c], wx[1][c]};
                const Four upper = load(first), lower = load(first + 2 * stride);
                add_pair(to, across * (upper * wy[0][c] + lower * wy[1][c]));
                continue;
            }
            Four sum = {0, 0, 0, 0};
            for (int b = 0; b < taps; ++b) {
                const auto row = static_cast<std::size_t>(b);
                for (int a = 0; a < taps; a += 2) {
                    const auto left = static_cast<std::size_t>(a);
                    const Four across = {wx[left][c], wx[left][c], wx[left + 1][c], wx[left + 1][c]};
                    sum += across * (load(first + 2 * (b * stride + a)) * wy[row][c]);
                }
            }
            add_pair(to, sum);
        }
    }
}

} // namespace kasane
