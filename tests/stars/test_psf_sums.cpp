#include "support/instruction_sets.hpp"

#include <kasane/sky/random.hpp>
#include <kasane/stars/psf_sums.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <vector>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("The vectorised sums of the PSF fit agree with the scalar reference on every instruction set") {
    const double gamma = GENERATE(0.02, 0.3, 0.9);
    sky::Random random(7);
    std::vector<float> x, y, value, weight;
    for (int j = -7; j <= 7; ++j)
        for (int i = -7; i <= 7; ++i) {
            x.push_back(static_cast<float>(i) + 0.3f);
            y.push_back(static_cast<float>(j) - 0.2f);
            value.push_back(static_cast<float>(100 + 900 * std::exp(-0.1 * (i * i + j * j)) + 5 * random.normal()));
            weight.push_back(static_cast<float>(random.uniform(0.01, 0.05)));
        }
    while (x.size() % kPsfBlock != 0) // as callers fill up the last block; its values must not count
        for (auto* v : {&x, &y, &value, &weight})
            v->push_back(0);
    const PsfPixels pixels{x.data(), y.data(), value.data(), weight.data(), x.size()};
    const PsfParameters p = {850, 0.2, -0.1, 0.12, 0.01, 0.09, 105, gamma};
    on_every_instruction_set([&] {
        const PsfSums fast = psf_sums(pixels, p), plain = psf_sums_reference(pixels, p);
        // Float sums over 240 pixels: a rounding of 6e-8 each, by the root of their number and some operations.
        constexpr double kRounding = 3e-5;
        CHECK(fast.chi2 == Approx(plain.chi2).epsilon(kRounding));
        for (std::size_t i = 0; i < kPsfParameters; ++i) {
            const double size = std::sqrt(plain.chi2 * plain.matrix[i][i]); // of a gradient, by Cauchy and Schwarz
            CHECK(fast.gradient[i] == Approx(plain.gradient[i]).margin(kRounding * size));
            for (std::size_t j = 0; j < kPsfParameters; ++j) {
                CHECK(
                    fast.matrix[i][j] ==
                    Approx(plain.matrix[i][j]).margin(kRounding * std::sqrt(plain.matrix[i][i] * plain.matrix[j][j])));
                CHECK(fast.matrix[i][j] == fast.matrix[j][i]);
            }
        }
    });
}

TEST_CASE("The gradient of the PSF fit is the slope of its sum of squares") {
    std::vector<float> x, y, value, weight;
    for (int k = 0; k < 160; ++k) {
        x.push_back(static_cast<float>(k % 13) - 6);
        y.push_back(static_cast<float>(k / 13) - 6);
        value.push_back(static_cast<float>(100 + 40 * std::sin(0.7 * k)));
        weight.push_back(0.01f);
    }
    const PsfPixels pixels{x.data(), y.data(), value.data(), weight.data(), x.size()};
    const PsfParameters p = {300, 0.2, -0.1, 0.12, 0.01, 0.09, 105, 0.4};
    const PsfSums here = psf_sums_reference(pixels, p);
    for (std::size_t i = 0; i < kPsfParameters; ++i) {
        PsfParameters up = p, down = p;
        const double step = 1e-5 * std::max(1.0, std::abs(p[i]));
        up[i] += step;
        down[i] -= step;
        const double slope = (psf_sums_reference(pixels, up).chi2 - psf_sums_reference(pixels, down).chi2) / (2 * step);
        CHECK(-2 * here.gradient[i] == Approx(slope).epsilon(1e-3).margin(1e-3));
    }
}
