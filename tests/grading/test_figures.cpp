#include "support/places.hpp"
#include "support/support.hpp"

#include <kasane/grading/figures.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <set>
#include <sstream>

using namespace kasane;
using namespace kasane::test;

namespace {

/// 300 stars over 900 x 600 pixels whose width follows `width(u, v)`, u and v from -1 to 1 across the corners' circle.
template <class Width>
ExposureMeasures field(Width width, double error, std::uint64_t seed) {
    sky::Random random(seed);
    ExposureMeasures m;
    m.width = 900;
    m.height = 600;
    m.planes.resize(1);
    Measures& plane = m.planes[0];
    plane.mesh = {Image(14, 9, 1, 500.0f), Image(14, 9, 1, 10.0f), 64, {}, 500, 10};
    plane.background = 500;
    plane.noise = 10;
    plane.fwhm = 3;
    const double radius = std::hypot(450, 300);
    for (int k = 0; k < 300; ++k) {
        Star s;
        s.x = random.uniform(0, 900);
        s.y = random.uniform(0, 600);
        s.flux = 1000;
        s.flux_sigma = 10;
        s.position_sigma = 0.5 * error;
        s.fwhm = width((s.x - 450) / radius, (s.y - 300) / radius) + error * random.normal();
        if (k % 20 == 0) s.fwhm *= 1.8; // blends
        plane.stars.push_back(s);
    }
    plane.count = 300;
    m.saturated = Image(14, 9);
    return m;
}

} // namespace

TEST_CASE("A robust fit goes through most of the points") {
    sky::Random random(1);
    std::vector<Equation<2>> points;
    for (int i = 0; i < 200; ++i) {
        const double x = random.uniform(-1, 1);
        points.push_back({{1, x}, i % 4 == 0 ? 50 + 30 * random.uniform() : 3 + 2 * x + 0.1 * random.normal()});
    }
    const Eigen::Vector2d fit = robust_fit(points);
    // 150 good points of noise 0.1: 0.008 and 0.014 of standard error; three of them.
    CHECK(fit[0] == Approx(3).margin(0.03));
    CHECK(fit[1] == Approx(2).margin(0.05));
    CHECK(robust_fit(std::vector<Equation<2>>{}).isZero());
}

TEST_CASE("Tilt and curvature of the field are told apart, and blends do not matter") {
    // Across the whole width the stars grow by 0.2 of 3 px; the half-axis towards the side is 0.83 of the radius.
    const FieldShape tilted = field_shape(field([](double u, double) { return 3 + 0.3 * u; }, 0.05, 2));
    CHECK(tilted.tilt == Approx(0.2).margin(0.02));
    CHECK(tilted.tilt_angle == Approx(0).margin(6)); // to the right
    CHECK(tilted.curvature == Approx(0).margin(0.02));
    const FieldShape bowl = field_shape(field([](double u, double v) { return 3 + 0.6 * (u * u + v * v); }, 0.05, 3));
    CHECK(bowl.curvature == Approx(0.2).margin(0.02));
    CHECK(bowl.tilt < 0.02);
    CHECK(bowl.zones[0].fwhm > bowl.zones[4].fwhm + 0.2); // a corner and the middle
    const FieldShape upward = field_shape(field([](double, double v) { return 3 - 0.3 * v; }, 0.05, 4));
    CHECK(upward.tilt_angle == Approx(90).margin(6)); // y runs down, angles are as displayed
    ExposureMeasures few = field([](double, double) { return 3.0; }, 0.05, 5);
    few.planes[0].stars.resize(15);
    CHECK(std::isnan(field_shape(few).tilt));
}

TEST_CASE("The slope of the sky is that from edge to edge, whatever a bright star adds") {
    ExposureMeasures m = field([](double, double) { return 3.0; }, 0.05, 6);
    Background& mesh = m.planes[0].mesh;
    for (int j = 0; j < 9; ++j)
        for (int i = 0; i < 14; ++i)
            mesh.level(i, j) = 500 + 30 * static_cast<float>(i) / 13;
    mesh.level(4, 4) = 900;
    const Slope slope = background_slope(mesh);
    CHECK(slope.size == Approx(30).epsilon(0.01));
    CHECK(slope.angle == Approx(0).margin(1));
    CHECK(describe_frame(m, 60, 1.5)[Measure::gradient] == Approx(30).epsilon(0.01));
}

TEST_CASE("Figures say what is known, and nothing of what is not") {
    ExposureMeasures m = field([](double, double) { return 3.0; }, 0.05, 7);
    m.streaks.push_back({-5, 100, 905, 140});
    m.saturated(3, 2) = 0.5f;
    const Figures f = describe_frame(m, 60, 1.5);
    CHECK(f[Measure::fwhm_arcsec] == Approx(4.5));
    CHECK(f[Measure::sky] == Approx(500.0 / 60));
    CHECK(f[Measure::streaks] == 1);
    CHECK(f[Measure::saturated] == Approx(0.5e6 / (14 * 9)));
    CHECK(std::isnan(f[Measure::worth])); // what compares exposures
    const Figures blind = describe_frame(m, 0, 0);
    CHECK(std::isnan(blind[Measure::sky]));
    CHECK(std::isnan(blind[Measure::fwhm_arcsec]));
    // Inside a rectangle: its stars, its cells, the streaks that cross it.
    const Figures part = describe_frame(m, 60, 1.5, {0, 300, 450, 300});
    CHECK(part[Measure::stars] == Approx(75).margin(25)); // a quarter of 300, three sigma
    CHECK(part[Measure::streaks] == 0);
    CHECK(describe_frame(m, 60, 1.5, {100, 90, 50, 50})[Measure::streaks] == 1);
}

TEST_CASE("Every measure has its line in the documents, and there is no other") {
    const std::string page = read_file(std::string(kSources) + "/docs/grading.md");
    const std::size_t begin = page.find("| name | what it is, and how it is found |"), end = page.find("\n\n", begin);
    REQUIRE(end != std::string::npos);
    std::set<std::string> told, known;
    std::istringstream lines(page.substr(begin, end - begin));
    for (std::string line; std::getline(lines, line);) {
        const std::string names = line.substr(0, line.find('|', 1)); // the first column
        for (std::size_t at = names.find('`'); at != std::string::npos; at = names.find('`', at + 1)) {
            const std::size_t close = names.find('`', at + 1);
            told.insert(names.substr(at + 1, close - at - 1));
            at = close;
        }
    }
    for (int i = 0; i < kMeasures; ++i) {
        const MeasureInfo& info = measure_info(static_cast<Measure>(i));
        known.insert(info.name);
        CHECK(measure_named(info.name) == static_cast<Measure>(i));
        CHECK(std::string(info.meaning).size() > 3);
    }
    CHECK(known.size() == static_cast<std::size_t>(kMeasures));
    CHECK(told == known);
}
