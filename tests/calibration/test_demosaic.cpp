// Demosaicing by rows against the formulas, pixel by pixel.
#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/calibration/demosaic.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <random>

using namespace kasane;
using namespace kasane::test;

namespace {

/// Random values, `gaps` of which are missing, and a hole of 8 x 8 besides if any are.
Image random_mosaic(int width, int height, double gaps) {
    Image mosaic(width, height);
    std::mt19937 random(7);
    std::uniform_real_distribution<float> value(-10, 1000);
    std::bernoulli_distribution missing(gaps);
    for (float& v : mosaic.pixels())
        v = missing(random) ? kNoData : value(random);
    for (int y = 0; gaps > 0 && y < 8; ++y)
        for (int x = 0; x < 8; ++x)
            mosaic(width / 2 + x, height / 2 + y) = kNoData;
    return mosaic;
}

Image demosaiced(const Image& mosaic, const CfaPattern& cfa, Demosaic method, const Region& region) {
    const int halo = demosaic_halo(method, cfa);
    const Region wide{region.x - halo, region.y - halo, region.width + 2 * halo, region.height + 2 * halo};
    Image out(region.width, region.height, 3);
    demosaic(mosaic.plane().crop(wide), cfa.shifted(wide.x, wide.y), method,
             {out.plane(0), out.plane(1), out.plane(2)});
    return out;
}

/// What the two methods say of one pixel, each value worked out from the mosaic anew.
struct Formulas {
    const Image& mosaic;
    const CfaPattern& cfa;

    double filled(int x, int y) const {
        if (!std::isnan(mosaic(x, y))) return mosaic(x, y);
        double sum = 0, n = 0;
        for (int j = y - 2; j <= y + 2; ++j)
            for (int i = x - 2; i <= x + 2; ++i)
                if (cfa.colour(i, j) == cfa.colour(x, y) && !std::isnan(mosaic(i, j))) sum += mosaic(i, j), ++n;
        return n > 0 ? sum / n : 0;
    }
    double green(int x, int y, int dx, int dy) const {
        const double v = filled(x, y);
        if (cfa.colour(x, y) == 1) return v;
        return (filled(x - dx, y - dy) + filled(x + dx, y + dy)) / 2 +
               (2 * v - filled(x - 2 * dx, y - 2 * dy) - filled(x + 2 * dx, y + 2 * dy)) / 4;
    }
    /// Of the colour difference between a pixel and the second one along the direction.
    double change(int x, int y, int dx, int dy) const {
        const auto above = [&](int i, int j) { return filled(i, j) - green(i, j, dx, dy); };
        return std::abs(above(x, y) - above(x + 2 * dx, y + 2 * dy));
    }
    double changes(int x, int y, int dx, int dy) const {
        double sum = 0;
        for (const int back : {0, 2}) // along (dx, dy), and beside it along (dy, dx)
            for (const int beside : {-2, 0, 2})
                sum += (beside ? 1 : 3) * change(x - back * dx + beside * dy, y - back * dy + beside * dx, dx, dy);
        for (const int beside : {-1, 1})
            sum += change(x - dx + beside * dy, y - dy + beside * dx, dx, dy);
        return sum;
    }
    /// How much nearer the changes along the row are than those across it, relative to both.
    double preference(int x, int y) const {
        const double h = changes(x, y, 1, 0), v = changes(x, y, 0, 1);
        return (v - h) / (v + h);
    }
    double directed_green(int x, int y) const { return preference(x, y) >= 0 ? green(x, y, 1, 0) : green(x, y, 0, 1); }
    double directed(int x, int y, int colour) const {
        if (cfa.colour(x, y) == colour) return filled(x, y);
        if (colour == 1) return directed_green(x, y);
        double sum = 0, n = 0;
        for_nearest(x, y, colour, [&](int i, int j) { sum += filled(i, j) - directed_green(i, j), ++n; });
        return directed_green(x, y) + sum / n;
    }
    double bilinear(int x, int y, int colour) const {
        if (cfa.colour(x, y) == colour && !std::isnan(mosaic(x, y))) return mosaic(x, y);
        double sum = 0, n = 0;
        for_nearest(x, y, colour, [&](int i, int j) {
            if (!std::isnan(mosaic(i, j))) sum += mosaic(i, j), ++n;
        });
        return n > 0 ? sum / n : kNoData;
    }
    double adaptive(int x, int y, int colour) const {
        bool any = false;
        for (int j = -2; j <= 2; ++j)
            for (int i = -2; i <= 2; ++i)
                any = any || !std::isnan(mosaic(x + i, y + j));
        if (!any) return kNoData;
        double given = 0;
        for (int j = -4; j <= 4; ++j)
            for (int i = -4; i <= 4; ++i) {
                const double d = bilinear(x + i, y + j, colour) - directed(x + i, y + j, colour);
                if (!std::isnan(d)) given += (5 - std::abs(i)) * (5 - std::abs(j)) * d / 625;
            }
        if (cfa.colour(x, y) == colour) given = 0;
        return directed(x, y, colour) + (colour == 1 ? 2.0 : 4.0 / 3) * given;
    }

private:
    /// The neighbours of a colour: those beside the pixel, or if there are none those at its corners.
    template <class F>
    void for_nearest(int x, int y, int colour, F f) const {
        bool beside = false;
        for (const auto& [i, j] : {std::pair(0, -1), {-1, 0}, {1, 0}, {0, 1}})
            if (cfa.colour(x + i, y + j) == colour) f(x + i, y + j), beside = true;
        if (beside) return;
        for (const auto& [i, j] : {std::pair(-1, -1), {1, -1}, {-1, 1}, {1, 1}})
            if (cfa.colour(x + i, y + j) == colour) f(x + i, y + j);
    }
};

} // namespace

TEST_CASE("Rows of a mosaic are demosaiced as the formulas say") {
    const std::string letters = GENERATE(as<std::string>{}, "RGGB", "BGGR", "GRBG", "GBRG");
    const double gaps = GENERATE(0.0, 0.01, 0.4);
    const CfaPattern cfa(letters);
    const Image mosaic = random_mosaic(64, 60, gaps);
    const Formulas formulas{mosaic, cfa};
    const Region region{17, 19, 29, 18}; // the hole and what is around it
    const Image even = demosaiced(mosaic, cfa, Demosaic::bilinear, region);
    const Image fine = demosaiced(mosaic, cfa, Demosaic::adaptive, region);
    const auto is = [](float made, double told) {
        return (std::isnan(made) && std::isnan(told)) || std::abs(made - told) < 0.01;
    };
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; ++x)
            for (int c = 0; c < 3; ++c) {
                INFO(x << " " << y << " colour " << c);
                REQUIRE(is(even(x, y, c), formulas.bilinear(region.x + x, region.y + y, c)));
                if ((x + y) % 3 == 0) // these take their time
                    REQUIRE(is(fine(x, y, c), formulas.adaptive(region.x + x, region.y + y, c)));
            }
}

TEST_CASE("Squares of a mosaic hold the means of their colours, whatever is missing") {
    const std::string letters =
        GENERATE(as<std::string>{}, "RGGB", "GBRG", "RGBG", "RGBB", "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG");
    const CfaPattern cfa(letters);
    const int cell = cfa.cell();
    const Image mosaic = random_mosaic(97, 55, 0.3);
    Image out(mosaic.width() / cell, mosaic.height() / cell, 3);
    bin_mosaic(mosaic.plane(), cfa, {out.plane(0), out.plane(1), out.plane(2)});
    for (int c = 0; c < 3; ++c)
        for (int y = 0; y < out.height(); ++y)
            for (int x = 0; x < out.width(); ++x) {
                double sum = 0, n = 0;
                for (int j = y * cell; j < (y + 1) * cell; ++j)
                    for (int i = x * cell; i < (x + 1) * cell; ++i)
                        if (cfa.colour(i, j) == c && !std::isnan(mosaic(i, j))) sum += mosaic(i, j), ++n;
                REQUIRE(std::isnan(out(x, y, c)) == (n == 0));
                if (n > 0) REQUIRE(out(x, y, c) == Approx(sum / n).margin(1e-3));
            }
}

TEST_CASE("Patterns that are not checkered are interpolated from the nearest of each colour") {
    const std::string letters = GENERATE(as<std::string>{}, "RGBG", "RGBB", "GRBB");
    const CfaPattern cfa(letters);
    const Image mosaic = random_mosaic(40, 36, 0);
    const Region region{10, 9, 17, 15};
    const Formulas formulas{mosaic, cfa};
    for (const Demosaic method : {Demosaic::bilinear, Demosaic::adaptive}) {
        const Image out = demosaiced(mosaic, cfa, method, region);
        for (int c = 0; c < 3; ++c)
            for (int y = 0; y < region.height; ++y)
                for (int x = 0; x < region.width; ++x)
                    REQUIRE(out(x, y, c) == Approx(formulas.bilinear(region.x + x, region.y + y, c)).margin(1e-2));
    }
}

TEST_CASE("Where gaps lie does not make a pixel depend on the rectangle that it is made with") {
    const std::string letters = GENERATE(as<std::string>{}, "GBRG", "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG");
    const Demosaic method = GENERATE(Demosaic::bilinear, Demosaic::adaptive);
    const CfaPattern cfa(letters);
    const int halo = demosaic_halo(method, cfa);
    const Image mosaic = random_mosaic(1100, 60, 0.3); // of more than one strip of columns
    const Region all{halo, halo, mosaic.width() - 2 * halo, mosaic.height() - 2 * halo};
    const Image whole = demosaiced(mosaic, cfa, method, all);
    const auto same = [](float a, float b) { return a == b || (a != a && b != b); };
    for (const Region& r : {Region{halo, halo, 1, 1}, Region{501 + halo, 3 + halo, 40, 17},
                            Region{all.right() - 5, all.bottom() - 7, 5, 7}, Region{halo + 13, halo + 11, 600, 2}}) {
        const Image part = demosaiced(mosaic, cfa, method, r);
        for (int c = 0; c < 3; ++c)
            for (int y = 0; y < r.height; ++y)
                for (int x = 0; x < r.width; ++x)
                    REQUIRE(same(part(x, y, c), whole(r.x - all.x + x, r.y - all.y + y, c)));
    }
}

TEST_CASE("Demosaicing gives the same bits on every instruction set") {
    const CfaPattern cfa("GRBG");
    const Image mosaic = random_mosaic(150, 70, 0.02);
    const Region region{12, 12, 121, 40};
    const auto all = [&] {
        std::vector<Image> out;
        for (const Demosaic method : {Demosaic::bilinear, Demosaic::adaptive})
            out.push_back(demosaiced(mosaic, cfa, method, region));
        return out;
    };
    const std::vector<Image> usual = all();
    on_every_instruction_set([&] {
        const std::vector<Image> here = all();
        for (std::size_t k = 0; k < here.size(); ++k)
            for (std::size_t i = 0; i < here[k].pixels().size(); ++i) {
                const float a = here[k].pixels()[i], b = usual[k].pixels()[i];
                REQUIRE((a == b || (a != a && b != b)));
            }
    });
}
