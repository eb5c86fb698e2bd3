// Colour filter arrays: patterns, demosaicing against the truth, and views of any rectangle.
#include "support/mosaics.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/calibration/cfa_phase.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/integration/integrate.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

const std::string kSixBySix = "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG";

std::shared_ptr<const FrameReader> memory(Image image) {
    return std::make_shared<MemoryFrame>(std::move(image));
}

/// Three planes with stars of different colours on a sky with a slope.
Image coloured_field(int width, int height, double fwhm) {
    Image planes(width, height, 3);
    constexpr float kTint[3] = {0.7f, 1.0f, 0.85f};
    for (int p = 0; p < 3; ++p) {
        Image plane(width, height);
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x)
                plane(x, y) = kTint[p] * (400 + 0.4f * static_cast<float>(x));
        for (int i = 0; i < 40; ++i) // some red, some blue
            add_gaussian_star(plane, 20 + 37.3 * (i % 8), 20 + 41.7 * (i / 8),
                              20000 * kTint[p] * (1 + 0.4 * (p - 1) * (i % 3 - 1)), fwhm);
        std::copy(plane.pixels().begin(), plane.pixels().end(), planes.plane(p).data);
    }
    return planes;
}

Image read_all(const FrameView& view) {
    Image out(view.width(), view.height(), view.planes());
    std::vector<View<float>> planes;
    for (int p = 0; p < view.planes(); ++p)
        planes.push_back(out.plane(p));
    view.read(view.bounds(), planes);
    return out;
}

/// Peak signal to noise, dB, against the truth; the peak is that of the stars.
double psnr(const Image& image, const Image& truth) {
    double squares = 0, peak = 0;
    for (std::size_t i = 0; i < truth.pixels().size(); ++i) {
        squares += std::pow(image.pixels()[i] - truth.pixels()[i], 2);
        peak = std::max<double>(peak, truth.pixels()[i]);
    }
    return 10 * std::log10(peak * peak / (squares / static_cast<double>(truth.pixels().size())));
}

double flux(const Image& v, int plane, double x, double y) {
    double sum = 0;
    int n = 0;
    double ring = 0;
    int around = 0;
    for (int j = static_cast<int>(y) - 12; j <= y + 12; ++j)
        for (int i = static_cast<int>(x) - 12; i <= x + 12; ++i) {
            const double d = std::hypot(i - x, j - y);
            if (d < 8) {
                sum += v(i, j, plane);
                ++n;
            } else if (d > 9) {
                ring += v(i, j, plane);
                ++around;
            }
        }
    return sum - n * ring / around;
}

} // namespace

TEST_CASE("A pattern names every pixel's colour, and refuses what is none") {
    const CfaPattern p("RGGB");
    CHECK(p.colour(0, 0) == 0);
    CHECK(p.colour(3, 0) == 1);
    CHECK(p.colour(-1, -1) == 2);
    CHECK(p.shifted(1, 0).letters() == "GRBG");
    CHECK(CfaPattern(kSixBySix).period() == 6);
    CHECK(CfaPattern(kSixBySix).shifted(6, 12) == CfaPattern(kSixBySix));
    CHECK(CfaPattern("").colours() == 1);
    for (const char* wrong : {"RGB", "RGGX", "RGGG", "GGGG"})
        CHECK_THROWS_AS(CfaPattern(wrong), UsageError);
}

TEST_CASE("Demosaicing keeps every sensor pixel, and smooth colours exactly, in every phase") {
    const std::string letters = GENERATE(as<std::string>{}, "RGGB", "BGGR", "GRBG", "GBRG", kSixBySix);
    const ColourMethod method = GENERATE(ColourMethod::bilinear, ColourMethod::adaptive);
    Image truth(48, 42, 3);
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < 42; ++y)
            for (int x = 0; x < 48; ++x)
                truth(x, y, p) = static_cast<float>(100 * (p + 1) + 2 * x + 3 * y);
    const CfaPattern cfa(letters);
    const Image mosaic = mosaic_of(truth, cfa);
    const Image out = read_all(view_of(mosaic, letters, method));
    const float slack = letters.size() == 4 ? 1e-3f : 6; // 6 x 6: neighbours do not lie evenly around
    for (int y = 14; y < 28; ++y)                        // the mirrored edge is no slope: away from it
        for (int x = 14; x < 34; ++x) {
            CHECK(out(x, y, cfa.colour(x, y)) == Approx(mosaic(x, y)));
            for (int p = 0; p < 3; ++p)
                REQUIRE(std::abs(out(x, y, p) - truth(x, y, p)) < slack + 1e-3f);
        }
}

TEST_CASE("A rectangle of any phase is cut from the same picture") {
    const ColourMethod method =
        GENERATE(ColourMethod::bilinear, ColourMethod::adaptive, ColourMethod::binned, ColourMethod::green);
    const std::string letters = GENERATE(as<std::string>{}, "GRBG", kSixBySix);
    Image noise = coloured_field(66, 60, 2.5);
    add_noise(noise, 20, 3);
    const FrameView view = view_of(mosaic_of(noise, CfaPattern(letters)), letters, method);
    const Image whole = read_all(view);
    for (const Region r : {Region{1, 1, 7, 9}, Region{4, 3, 11, 8}, Region{0, 0, 5, 5},
                           Region{view.width() - 6, view.height() - 5, 6, 5}}) {
        Image part(r.width, r.height, view.planes());
        std::vector<View<float>> planes;
        for (int p = 0; p < view.planes(); ++p)
            planes.push_back(part.plane(p));
        view.read(r, planes);
        for (int p = 0; p < view.planes(); ++p)
            for (int y = 0; y < r.height; ++y)
                for (int x = 0; x < r.width; ++x)
                    CHECK(part(x, y, p) == whole(r.x + x, r.y + y, p));
    }
}

TEST_CASE("The adaptive method beats the bilinear one on stars, and both keep their colours") {
    const double fwhm = GENERATE(2.2, 3.0);
    const Image truth = coloured_field(340, 240, fwhm);
    const Image mosaic = mosaic_of(truth, CfaPattern("RGGB"));
    const Image plain = read_all(view_of(mosaic, "RGGB", ColourMethod::bilinear));
    const Image fine = read_all(view_of(mosaic, "RGGB", ColourMethod::adaptive));
    CHECK(psnr(fine, truth) > psnr(plain, truth) + 3);
    double mean = 0;
    for (int i = 0; i < 40; ++i) {
        const double x = 20 + 37.3 * (i % 8), y = 20 + 41.7 * (i / 8);
        const double colour = flux(fine, 0, x, y) / flux(fine, 2, x, y);
        mean += colour / (flux(truth, 0, x, y) / flux(truth, 2, x, y)) - 1;
    }
    CHECK(std::abs(mean / 40) < 0.005); // of single mosaics; a dithered stack averages their errors
}

TEST_CASE("No data stays where it is") {
    const ColourMethod method = GENERATE(ColourMethod::bilinear, ColourMethod::adaptive);
    Image mosaic(40, 40, 1, 100.0f);
    mosaic(20, 21) = kNoData;
    mosaic(7, 8) = std::numeric_limits<float>::infinity();
    std::array<QualityPlane, 3> quality;
    const FrameView view = view_of(mosaic, "RGGB", method);
    Image out(40, 40, 3);
    view.read(view.bounds(), views_of(out), quality);
    CHECK(std::all_of(out.pixels().begin(), out.pixels().end(), [](float v) { return v == Approx(100); }));
    CHECK((quality[1].at(20, 21) == quality::kRepaired && quality[1].at(7, 8) == quality::kRepaired));
    int marked = 0;
    for (const QualityPlane& q : quality)
        q.for_each([&](int, int, quality::Bits) { ++marked; });
    CHECK(marked == 2); // of the planes of their own colours
    // A rectangle tells the same of its own pixels.
    Image part(9, 6, 3);
    view.read({15, 18, 9, 6}, views_of(part), quality);
    CHECK((quality[1].width() == 9 && quality[1].height() == 6 && quality[1].at(5, 3) == quality::kRepaired));
    CHECK((!quality[0].any() && !quality[2].any()));
}

TEST_CASE("A binned colour knows where its samples lie") {
    CHECK(binned_shift(CfaPattern("RGGB"), 0)[0] == Approx(-0.25));
    CHECK(binned_shift(CfaPattern("RGGB"), 1)[0] == Approx(0));
    CHECK(binned_shift(CfaPattern("GRBG"), 0)[0] == Approx(0.25));
    // A star on the sensor at (100, 80) stands at ((100 - 0.5) / 2, (80 - 0.5) / 2) of every plane's grid.
    Image planes(200, 160, 3);
    for (int p = 0; p < 3; ++p) {
        Image one(200, 160);
        add_gaussian_star(one, 100, 80, 1e5, 6);
        std::copy(one.pixels().begin(), one.pixels().end(), planes.plane(p).data);
    }
    const FrameView view = view_of(mosaic_of(planes, CfaPattern("RGGB")), "RGGB", ColourMethod::binned);
    const Image out = read_all(view);
    for (int p = 0; p < 3; ++p) {
        double sum = 0, sx = 0, sy = 0;
        for (int y = 0; y < 80; ++y)
            for (int x = 0; x < 100; ++x) {
                sum += out(x, y, p);
                sx += out(x, y, p) * x;
                sy += out(x, y, p) * y;
            }
        CHECK(sx / sum + view.shift(p)[0] == Approx(49.75).margin(0.01));
        CHECK(sy / sum + view.shift(p)[1] == Approx(39.75).margin(0.01));
    }
}

TEST_CASE("A stack of mosaics keeps fluxes and positions in all colours") {
    const Quiet quiet;
    const ColourMethod method = GENERATE(ColourMethod::adaptive, ColourMethod::binned);
    const int cell = method == ColourMethod::binned ? 2 : 1;
    std::vector<StackFrame> frames;
    for (int f = 0; f < 9; ++f) {
        const double dx = 1.37 * f - 5, dy = 0.71 * f - 3;
        Image planes(160, 120, 3);
        for (int p = 0; p < 3; ++p) {
            Image one(160, 120, 1, 500.0f);
            add_gaussian_star(one, 80 + dx, 60 + dy, 40000.0 * (1 + 0.3 * p), 6);
            std::copy(one.pixels().begin(), one.pixels().end(), planes.plane(p).data);
        }
        Image mosaic = mosaic_of(planes, CfaPattern("GBRG"));
        add_noise(mosaic, 5, static_cast<std::uint64_t>(f) + 1);
        StackFrame frame;
        frame.source = std::make_shared<const FrameView>(view_of(std::move(mosaic), "GBRG", method));
        const StackPlane plane{Affine{1, 0, dx / cell, 0, 1, dy / cell}, {}, 5};
        frame.planes = {plane, plane, plane};
        frame.electrons_per_adu = 1;
        frames.push_back(std::move(frame));
    }
    const MasterLight m = integrate(frames, {160 / cell, 120 / cell}, {500, 500, 500}, quiet.context);
    REQUIRE(m.pixels.planes() == 3);
    const double cx = cell == 1 ? 80 : 39.75, cy = cell == 1 ? 60 : 29.75;
    for (int p = 0; p < 3; ++p) {
        double sum = 0, sx = 0;
        for (int y = static_cast<int>(cy - 20 / cell); y <= cy + 20 / cell; ++y)
            for (int x = static_cast<int>(cx - 20 / cell); x <= cx + 20 / cell; ++x) {
                sum += m.pixels(x, y, p) - 500;
                sx += (m.pixels(x, y, p) - 500) * x;
            }
        CHECK(sum * cell * cell == Approx(40000.0 * (1 + 0.3 * p)).epsilon(0.01));
        CHECK(sx / sum == Approx(cx).margin(0.03));
    }
}

TEST_CASE("A pattern that contradicts the pixels is told") {
    Image planes(200, 200, 3);
    for (int p = 0; p < 3; ++p)
        std::fill_n(planes.plane(p).data, 40000, p == 1 ? 20000.0f : p == 0 ? 12000.0f : 9000.0f);
    Image mosaic = mosaic_of(planes, CfaPattern("RGGB"));
    add_noise(mosaic, 100, 5);
    CHECK(contradicted_phase(*memory(mosaic), CfaPattern("RGGB")).empty());
    CHECK(contradicted_phase(*memory(mosaic), CfaPattern("BGGR")).empty()); // the pixels cannot tell
    CHECK(contradicted_phase(*memory(mosaic), CfaPattern("GRBG")) == "RGGB or BGGR");
    Image grey(200, 200, 1, 5000.0f);
    add_noise(grey, 70, 6);
    CHECK(contradicted_phase(*memory(grey), CfaPattern("GRBG")).empty());
}
