// Pixels on the sky: what headers say, what is fitted, and that both say the same.
#include <kasane/io/world_coordinates.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <vector>

using namespace kasane;

namespace {

Header header(std::initializer_list<std::pair<const char*, double>> numbers, const char* type = "TAN") {
    Header h;
    h.set("CTYPE1", std::string("RA---") + type);
    h.set("CTYPE2", std::string("DEC--") + type);
    h.set("CRPIX1", 501.0);
    h.set("CRPIX2", 301.0);
    h.set("CRVAL1", 83.5);
    h.set("CRVAL2", -5.25);
    for (const auto& [key, value] : numbers)
        h.set(key, value);
    return h;
}

double apart_arcsec(const SkyPoint& a, const SkyPoint& b) {
    return 3600 * separation(a, b);
}

/// A field with a lens: what any optic does to a gnomonic plane.
std::vector<SkySample> bent_field(const WorldCoordinates& plane, const Lens& lens, int width, int height) {
    std::vector<SkySample> out;
    for (int row = 0; row <= 24; ++row)
        for (int column = 0; column <= 24; ++column) {
            const Point ideal{column / 24.0 * (width - 1), row / 24.0 * (height - 1)};
            out.push_back({lens.distort(ideal), plane.to_sky(ideal)});
        }
    return out;
}

} // namespace

TEST_CASE("A scale is read from CD, from PC and CDELT, and from CDELT and CROTA alike") {
    const double s = 2e-4, c = std::cos(0.3), n = std::sin(0.3);
    const auto cd = read_world(header({{"CD1_1", -s * c}, {"CD1_2", -s * n}, {"CD2_1", -s * n}, {"CD2_2", s * c}}));
    const auto pc =
        read_world(header({{"CDELT1", -s}, {"CDELT2", s}, {"PC1_1", c}, {"PC1_2", n}, {"PC2_1", -n}, {"PC2_2", c}}));
    const auto rota = read_world(header({{"CDELT1", -s}, {"CDELT2", s}, {"CROTA2", 0.3 * 180 / M_PI}}));
    REQUIRE(cd);
    REQUIRE(pc);
    REQUIRE(rota);
    for (const Point p : {Point{500, 300}, Point{0, 0}, Point{900, 12}}) {
        CHECK(apart_arcsec(cd->to_sky(p), pc->to_sky(p)) < 1e-6);
        CHECK(apart_arcsec(cd->to_sky(p), rota->to_sky(p)) < 1e-6);
        const Point back = cd->to_pixel(cd->to_sky(p));
        CHECK(std::hypot(back.x - p.x, back.y - p.y) < 1e-7);
    }
    CHECK(apart_arcsec(cd->to_sky({500, 300}), {83.5, -5.25}) < 1e-9); // pixels begin at 1 in FITS, at 0 here
    CHECK(cd->arcsec_per_pixel() == Approx(0.72));
    // Far from the middle the plane is no longer the sphere: tan 30 degrees of plane are 30 degrees of sky.
    const auto wide = read_world(header({{"CD1_1", -0.1}, {"CD2_2", 0.1}}));
    REQUIRE(wide);
    const double plane = std::tan(30 * M_PI / 180) * 180 / M_PI;
    CHECK(separation(wide->to_sky({500, 300}), wide->to_sky({500, 300 + plane / 0.1})) == Approx(30).epsilon(1e-9));
}

TEST_CASE("What is written is read again, distortion and its inverse included") {
    WorldCoordinates plane;
    plane.pixel = {399.5, 299.5};
    plane.sky = {359.95, 61.2}; // across the beginning of right ascension
    plane.cd = {-1.1e-3, 2e-5, -2e-5, -1.1e-3};
    const Lens lens{{410, 290}, 500, {-0.02, 0.004, 0}, {3e-4, -2e-4}};
    double left = 0;
    const auto fitted = fit_world(bent_field(plane, lens, 800, 600), 800, 600, 0.01, &left);
    REQUIRE(fitted);
    CHECK(left < 0.01);
    CHECK(fitted->order >= 3);
    Header h;
    write_world(h, *fitted, 800, 600);
    CHECK(h.text("CTYPE1") == "RA---TAN-SIP");
    const auto again = read_world(h);
    REQUIRE(again);
    for (int row = 0; row <= 6; ++row)
        for (int column = 0; column <= 8; ++column) {
            const Point ideal{40 + 90.0 * column, 30 + 90.0 * row}, seen = lens.distort(ideal);
            const SkyPoint sky = plane.to_sky(ideal);
            CHECK(apart_arcsec(again->to_sky(seen), sky) < 0.01 * plane.arcsec_per_pixel());
            // The polynomial that other programs go back by.
            const Point p = again->to_pixel(sky);
            CHECK(std::hypot(p.x - seen.x, p.y - seen.y) < 0.01);
            double u = 0, v = 0;
            const auto term = [&](const char* name, int i, int j) {
                return h.number(std::string(name) + "_" + std::to_string(i) + "_" + std::to_string(j)).value_or(0);
            };
            const Point linear = [&] {
                WorldCoordinates straight = *again;
                straight.order = 0;
                return straight.to_pixel(sky);
            }();
            const double x = linear.x - again->pixel.x, y = linear.y - again->pixel.y;
            for (int i = 0; i <= again->order; ++i)
                for (int j = 0; i + j <= again->order; ++j) {
                    u += term("AP", i, j) * std::pow(x, i) * std::pow(y, j);
                    v += term("BP", i, j) * std::pow(x, i) * std::pow(y, j);
                }
            CHECK(std::hypot(linear.x + u - seen.x, linear.y + v - seen.y) < 0.1);
        }
    // Rows in the other order: the same sky.
    const WorldCoordinates over = again->with_rows_reversed(600);
    CHECK(apart_arcsec(over.to_sky({123, 599 - 77.0}), again->to_sky({123, 77})) < 1e-6);
}

TEST_CASE("A field without distortion is told without") {
    WorldCoordinates plane;
    plane.pixel = {10, 20};
    plane.sky = {10, -80};
    plane.cd = {3e-4, 1e-4, 1e-4, -3e-4};
    const auto fitted = fit_world(bent_field(plane, Lens{{400, 300}, 500, {}, {}}, 800, 600), 800, 600);
    REQUIRE(fitted);
    CHECK(fitted->order == 0);
    CHECK(apart_arcsec(fitted->to_sky({700, 500}), plane.to_sky({700, 500})) < 0.01);
    CHECK_FALSE(fit_world({}, 800, 600));
}

TEST_CASE("World coordinates that cannot be used are refused, each with its reason") {
    std::string why;
    CHECK_FALSE(read_world(Header(), &why));
    CHECK(why.empty()); // nothing is said, nothing is wrong
    const auto refused = [&](const Header& h) {
        why.clear();
        CHECK_FALSE(read_world(h, &why));
        return why;
    };
    CHECK_THAT(refused(header({{"CD1_1", 1e-4}, {"CD2_2", 1e-4}}, "ZEA")), Catch::Contains("-ZEA"));
    CHECK_THAT(refused(header({})), Catch::Contains("without a scale"));
    CHECK_THAT(refused(header({{"CD1_1", 1e-4}, {"CD2_2", 5e-4}})), Catch::Contains("arc seconds"));
    CHECK_THAT(refused(header({{"CD1_1", 0}, {"CD2_2", 0}})), Catch::Contains("arc seconds"));
    CHECK_THAT(refused(header({{"CD1_1", 1e-4}, {"CD2_2", 1e-4}, {"CRVAL2", 95}})), Catch::Contains("nowhere"));
    CHECK_THAT(refused(header({{"CD1_1", 1e-4}, {"CD2_2", 1e-4}, {"LONPOLE", 90}})), Catch::Contains("LONPOLE"));
    CHECK_THAT(refused(header({{"CD1_1", 1e-4}, {"CD2_2", 1e-4}, {"A_ORDER", 40}}, "TAN-SIP")),
               Catch::Contains("order 40"));
    Header galactic = header({{"CD1_1", 1e-4}, {"CD2_2", 1e-4}});
    galactic.set("CTYPE1", "GLON-TAN");
    CHECK_THAT(refused(galactic), Catch::Contains("GLON-TAN"));
}
