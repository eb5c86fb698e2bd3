// Maps between pixel grids: what must hold of all of them.
#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/geometry/row_kernel.hpp>
#include <kasane/geometry/transform.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 6000, kHeight = 4000; // pixels, a usual sensor

Affine turned(double scale, double angle, double dx, double dy) {
    const double c = scale * std::cos(radians(angle)), s = scale * std::sin(radians(angle));
    return {c, s, dx, -s, c, dy};
}

/// Half a per cent at the corner, with a little decentring.
std::shared_ptr<const Lens> lens() {
    Lens l;
    l.centre = {3010, 1980};
    l.radius = 3000;
    l.radial = {0.004, 0.001, -0.0002};
    l.decentring = {2e-4, -1e-4};
    return std::make_shared<const Lens>(l);
}

/// A canvas of 6000 pixels that shows about 60 degrees.
std::shared_ptr<const Lens> stereographic() {
    Lens l;
    l.centre = {3010, 1980};
    l.stereographic = 5200;
    return std::make_shared<const Lens>(l);
}

struct Named {
    const char* name;
    Transform t;
};

std::vector<Named> all_kinds() {
    const std::array<double, 9> tilted{1.01, 0.02, -30, -0.015, 0.99, 12, 2e-6, -1.5e-6, 1};
    return {
        {"nothing", {}},
        {"affine", turned(0.97, 12, 40, -25)},
        {"mirrored", Affine{-1, 0.1, 5990, 0.1, 1, 3}},
        {"projective", Transform(tilted)},
        {"lens", Transform({1, 0, 0, 0, 1, 0, 0, 0, 1}, lens())},
        {"projective and lens", Transform(tilted, lens())},
        {"all, shifted", Transform(tilted, lens()).shifted(0.4, -0.7)},
        {"from a stereographic canvas", Transform(tilted, lens(), stereographic())},
        {"from a canvas with a lens", Transform(tilted, lens(), lens())},
        {"from a turned canvas with a lens", Transform(tilted, nullptr, lens()).after(turned(1, 33, 700, -300))},
        {"lens on a turned canvas", Transform({1, 0, 0, 0, 1, 0, 0, 0, 1}, lens()).after(turned(1, 33, 700, -300))}};
}

double distance(Point a, Point b) {
    return std::hypot(a.x - b.x, a.y - b.y);
}

template <class F>
void over_the_frame(F f) {
    for (double y = 0; y < kHeight; y += 371)
        for (double x = 0; x < kWidth; x += 413)
            f(Point{x, y});
}

} // namespace

TEST_CASE("Affine maps invert, chain, and know their turn and scale") {
    const Affine t = turned(1.5, 30, 10, -4);
    CHECK(t.scale() == Approx(1.5));
    CHECK(t.rotation() == Approx(30));
    CHECK_FALSE(t.mirrors());
    CHECK(Affine{-1, 0, 5, 0, 1, 0}.mirrors());
    const Affine chained = turned(1, 20, 3, 1).after(turned(1, 10, 0, 0)), once = turned(1, 30, 3, 1),
                 none = t.after(t.inverse());
    for (std::size_t i = 0; i < 6; ++i) {
        CHECK(chained.coefficients()[i] == Approx(once.coefficients()[i]).margin(1e-12));
        CHECK(none.coefficients()[i] == Approx(Affine{}.coefficients()[i]).margin(1e-12));
    }
}

TEST_CASE("What a transform maps, it finds back") {
    for (const auto& [name, t] : all_kinds()) {
        INFO(name);
        double worst = 0;
        over_the_frame([&](Point p) { worst = std::max(worst, distance(t.unmap(t.map(p)), p)); });
        CHECK(worst < 1e-6); // pixels; the lens is undone to 1e-9
    }
}

TEST_CASE("A stereographic canvas shows angles of the sky, and what lies 90 degrees away nowhere") {
    // 2 f tan(a / 2) from the middle is what lies at an angle a from it; the plane has it at f tan(a).
    const auto l = stereographic();
    for (const double angle : {1.0, 20.0, 45.0, 89.0}) {
        const double r = 2 * l->stereographic * std::tan(radians(angle / 2)),
                     plane = l->stereographic * std::tan(radians(angle));
        const Point seen{l->centre.x + 0.6 * r, l->centre.y - 0.8 * r},
            ideal{l->centre.x + 0.6 * plane, l->centre.y - 0.8 * plane};
        CHECK(distance(l->correct(seen), ideal) < 1e-6 * plane);
        CHECK(distance(l->distort(ideal), seen) < 1e-6 * r);
    }
    CHECK(std::isnan(l->correct({l->centre.x + 2 * l->stereographic, l->centre.y}).x));
}

TEST_CASE("The affine map that touches a transform has its value and its slopes") {
    for (const auto& [name, t] : all_kinds()) {
        INFO(name);
        double value = 0, slope = 0;
        over_the_frame([&](Point p) {
            const Affine a = t.at(p);
            constexpr double kStep = 0.5; // pixels: the third derivative leaves 1e-10 of it
            Point q, dx, dy;
            a.apply(p.x, p.y, q.x, q.y);
            const Point right = t.map({p.x + kStep, p.y}), left = t.map({p.x - kStep, p.y});
            const Point below = t.map({p.x, p.y + kStep}), above = t.map({p.x, p.y - kStep});
            dx = {(right.x - left.x) / (2 * kStep), (right.y - left.y) / (2 * kStep)};
            dy = {(below.x - above.x) / (2 * kStep), (below.y - above.y) / (2 * kStep)};
            value = std::max(value, distance(q, t.map(p)));
            slope = std::max({slope, distance({a.a, a.d}, dx), distance({a.b, a.e}, dy)});
        });
        CHECK(value < 1e-8);
        CHECK(slope < 1e-8);
    }
}

TEST_CASE("Transforms chain with a change of canvas and with a shift") {
    const Affine canvas = turned(0.5, -40, 300, 900);
    for (const auto& [name, t] : all_kinds()) {
        INFO(name);
        const Transform chained = t.after(canvas), moved = t.shifted(2.25, -1.5);
        over_the_frame([&](Point p) {
            Point q;
            canvas.apply(p.x, p.y, q.x, q.y);
            REQUIRE(distance(chained.map(p), t.map(q)) < 1e-8);
            const Point there = t.map(p);
            REQUIRE(distance(moved.map(p), {there.x + 2.25, there.y - 1.5}) < 1e-8);
        });
    }
}

namespace {

/// As if nothing had been asked before.
void fixed_row(const Transform& t, int x, int y, int count, std::int64_t* u, std::int64_t* v) {
    Transform::Patches patches;
    t.row(x, y, count, u, v, patches);
}

/// A row split into whole pixels and what lies behind.
struct WholeRow {
    std::vector<std::int32_t> column, line;
    std::vector<float> fraction_x, fraction_y;
    bool operator==(const WholeRow&) const = default;

    /// `split` writes them.
    template <class F>
    WholeRow(int count, int x, int y, F split) {
        const auto room = static_cast<std::size_t>(count + 2 * kRowSlack);
        column.resize(room), line.resize(room), fraction_x.resize(room), fraction_y.resize(room);
        split(SplitRow{x, y, column.data() + kRowSlack, line.data() + kRowSlack, fraction_x.data() + kRowSlack,
                       fraction_y.data() + kRowSlack});
        const auto keep = [&](auto& all) {
            all.erase(all.begin(), all.begin() + kRowSlack);
            all.resize(static_cast<std::size_t>(count));
        };
        keep(column), keep(line), keep(fraction_x), keep(fraction_y);
    }
    WholeRow(const Transform& t, int x, int y, int count, Transform::Patches& patches)
        : WholeRow(count, 7, -3, [&](const SplitRow& to) { t.row(x, y, count, to, patches); }) {}
};

} // namespace

TEST_CASE("A row's positions are the same from wherever it is begun, and where the map says") {
    for (const auto& [name, t] : all_kinds()) {
        INFO(name);
        for (const int y : {0, 777, kHeight - 1}) {
            std::vector<std::int64_t> u(kWidth), v(kWidth), pu(kWidth), pv(kWidth);
            fixed_row(t, 0, y, kWidth, u.data(), v.data());
            double worst = 0;
            for (int x = 0; x < kWidth; ++x) {
                const Point p = t.map({static_cast<double>(x), static_cast<double>(y)});
                const auto i = static_cast<std::size_t>(x);
                worst = std::max(
                    worst, distance(p, {static_cast<double>(u[i]) * 0x1p-32, static_cast<double>(v[i]) * 0x1p-32}));
            }
            // Affine steps are rounded to 2^-32 pixels, 10000 of them; for others the bound that is stated, with the
            // fourth derivative from differences a third of a patch apart (which average a little), and the last bits
            // of single precision within a block, where a frame may be turned by half a pixel in each.
            double fourth = 0;
            constexpr double kStep = Transform::kPatch / 3.0;
            for (double x = 0; x + 4 * kStep < kWidth; x += kStep)
                for (const bool down : {false, true}) {
                    Point p[5];
                    for (int k = 0; k < 5; ++k)
                        p[k] = t.map({x + (down ? 0 : k * kStep), y + (down ? (k - 2) * kStep : 0)});
                    fourth = std::max(fourth, std::hypot(p[4].x - 4 * p[3].x + 6 * p[2].x - 4 * p[1].x + p[0].x,
                                                         p[4].y - 4 * p[3].y + 6 * p[2].y - 4 * p[1].y + p[0].y));
                }
            CHECK(worst <
                  (t.is_affine() ? 1.5e-6 : 2e-6 + 2 * fourth / 20)); // 81 / 1944 of a difference along each axis
            CHECK(worst < 2e-5);
            for (const int step : {1, 37, 128, 1000})
                for (int x = 0; x < kWidth; x += step)
                    fixed_row(t, x, y, std::min(step, kWidth - x), pu.data() + x, pv.data() + x);
            CHECK(pu == u);
            CHECK(pv == v);
        }
        std::int64_t left[5], whole_u[5], right[5], whole_v[5]; // west of the canvas's origin too
        fixed_row(t, -50, 3, 5, whole_u, whole_v);
        for (int i = 0; i < 5; ++i) {
            fixed_row(t, -50 + i, 3, 1, left + i, right + i);
            CHECK(left[i] == whole_u[i]);
            CHECK(right[i] == whole_v[i]);
        }
    }
}

TEST_CASE("The bounds of a rectangle hold all its pixels, and little more") {
    // The lower edge of the last bends most half way between two of the places where it is looked at.
    const Region regions[] = {
        {0, 0, 128, 128}, {5800, 3900, 128, 100}, {0, 0, kWidth, kHeight}, {2990, 1970, 40, 40}, {1135, 0, 4000, 300}};
    for (const auto& [name, t] : all_kinds())
        for (const Region& r : regions) {
            INFO(name << " " << r.x << " " << r.y << " " << r.width);
            const Bounds b = t.bounds(r);
            double left = 1e30, right = -1e30, top = 1e30, bottom = -1e30;
            const int step = r.width > 1000 ? 7 : 1;
            for (int y = r.y; y < r.bottom(); y += step)
                for (int x = r.x; x < r.right(); x += step) {
                    const double last = y + step < r.bottom() ? y : r.bottom() - 1; // the edges themselves
                    const Point p = t.map({static_cast<double>(x), last});
                    left = std::min(left, p.x), right = std::max(right, p.x);
                    top = std::min(top, p.y), bottom = std::max(bottom, p.y);
                }
            CHECK(b.left <= left);
            CHECK(b.top <= top);
            CHECK(b.right >= right);
            CHECK(b.bottom >= bottom);
            const double spare = 2.0 * step + 0.001 * r.width; // pixels that were stepped over, and the bend
            CHECK(b.left > left - spare);
            CHECK(b.right < right + spare);
            CHECK(b.top > top - spare);
            CHECK(b.bottom < bottom + spare);
        }
}

TEST_CASE("A transform onto a line is refused, and where a lens folds there is nothing to find") {
    CHECK_THROWS_AS(Transform(Affine{1, 1, 0, 1, 1, 0}), DataError);
    CHECK_THROWS_AS(Transform({1, 2, 3, 2, 4, 6, 0, 0, 1}), DataError);
    Lens l;
    l.radius = 1000;
    l.radial = {-0.5, 0, 0}; // turns back at r = 0.82: nothing is seen beyond 0.54
    CHECK(std::isnan(l.correct({900, 0}).x));
    CHECK(distance(l.distort(l.correct({300, 200})), {300, 200}) < 1e-8);
    CHECK(std::isnan(Transform({1, 0, 0, 0, 1, 0, 0, 0, 1}, std::make_shared<const Lens>(l)).unmap({900, 0}).x));
}

TEST_CASE("A canvas knows where its pixels lie on the reference") {
    const Canvas plain = reference_canvas(300, 200);
    CHECK(plain.bounds() == Region{0, 0, 300, 200});
    CHECK(plain.centre() == Point{149.5, 99.5});
    CHECK(plain.to_reference().coefficients() == Affine{}.coefficients());
    Canvas c = plain;
    c.origin = {10, -5};
    c.scale = 2;
    c.turn = 30;
    const Affine a = c.to_reference();
    Point p;
    a.apply(0, 0, p.x, p.y);
    CHECK(p == Point{10, -5});
    CHECK(a.scale() == Approx(0.5));
    CHECK(a.rotation() == Approx(-30)); // the picture is turned by 30: back to the reference by as much
}

TEST_CASE("Nothing is seen twice through a lens that folds far outside the frame") {
    Lens l;
    l.radius = 1000;
    l.radial = {-0.1, 0, 0}; // farther positions come nearer from sqrt(1 / 0.3) = 1.826 radii on
    CHECK(std::isfinite(l.distort({1820, 0}).x));
    for (double x = 1830; x < 6000; x += 10)
        REQUIRE(std::isnan(l.distort({x, 0}).x));
    const Transform t({1, 0, 0, 0, 1, 0, 0, 0, 1}, std::make_shared<const Lens>(l));
    std::vector<std::int64_t> u(64), v(64);
    fixed_row(t, 3000, 0, 64, u.data(), v.data()); // sqrt(1 / 0.1) radii is where the centre would be shown again
    for (const std::int64_t p : u)
        CHECK(static_cast<double>(p) * 0x1p-32 > 1e6);
}

TEST_CASE("Transforms that follow one another share a canvas's lens, and nothing else") {
    Transform::Patches together;
    for (int round = 0; round < 2; ++round)
        for (const auto& [name, t] : all_kinds())
            for (const Transform& way : {t, t.shifted(3.25, -8.5), t.after(turned(1, 0.2, 5, 9))}) {
                INFO(name);
                together.restart();
                for (const int y : {500, 501, 640}) {
                    Transform::Patches alone;
                    CHECK(WholeRow(way, 1000, y, 700, together) == WholeRow(way, 1000, y, 700, alone));
                    const WholeRow far(way, 1000 + 32 * Transform::kPatch, y, 40, together); // lies in the same entries
                    CHECK(far == WholeRow(way, 1000 + 32 * Transform::kPatch, y, 40, alone));
                }
            }
}

TEST_CASE("A row in whole pixels is what the row in fixed point says") {
    for (const auto& [name, t] : all_kinds()) {
        INFO(name);
        constexpr int kCount = 1300;
        Transform::Patches patches;
        const WholeRow split(t, -40, 600, kCount, patches);
        std::vector<std::int64_t> u(kCount), v(kCount);
        t.row(-40, 600, kCount, u.data(), v.data(), patches);
        for (std::size_t i = 0; i < u.size(); ++i) {
            REQUIRE(split.column[i] + 7 + static_cast<double>(split.fraction_x[i]) ==
                    Approx(static_cast<double>(u[i]) * 0x1p-32).margin(1e-7));
            REQUIRE(split.line[i] - 3 + static_cast<double>(split.fraction_y[i]) ==
                    Approx(static_cast<double>(v[i]) * 0x1p-32).margin(1e-7));
            REQUIRE(split.fraction_x[i] >= 0);
            REQUIRE(split.fraction_x[i] <= 1);
        }
    }
}

TEST_CASE("Positions along a row of patches follow their cubics, alike one by one and several at a time") {
    constexpr double kPerPixel = 3.0 / Transform::kPatch;
    constexpr int kLast = 37; // pixels of the last patch
    const auto rows = [](int from) {
        const auto cubic = [](double a, double b, double c, double d) {
            return Cubic::through({a, b, c, d}, kPerPixel);
        };
        return std::vector<PatchRow>{
            {cubic(-100.25, -57.4, -14.6, 28.3), cubic(9, 8.75, 8.5, 8.5), from, Transform::kPatch - from},
            {cubic(28.3, 71, 113.7, 156.4), cubic(8.5, 8.25, 8, 8), 0, Transform::kPatch},
            {cubic(-2000, -2107, -2214, -2320), cubic(900, 800, 702, 600), 0, kLast}}; // backwards, in wide steps
    };
    for (const int from : {0, 1, 15, 16, 17, 100, 127}) {
        const int count = 2 * Transform::kPatch - from + kLast;
        const WholeRow expected(count, 5, -2, [&](const SplitRow& to) { split_patch_rows_reference(rows(from), to); });
        on_every_instruction_set([&] {
            const WholeRow row(count, 5, -2, [&](const SplitRow& to) { split_patch_rows(rows(from), to); });
            REQUIRE(row == expected);
        });
        std::size_t k = 0;
        for (const PatchRow& r : rows(from))
            for (int i = r.from; i < r.from + r.count; ++i, ++k) {
                constexpr double kMargin = 2e-6;
                REQUIRE(expected.column[k] + 5 + static_cast<double>(expected.fraction_x[k]) ==
                        Approx(r.u(i)).margin(kMargin));
                REQUIRE(expected.line[k] - 2 + static_cast<double>(expected.fraction_y[k]) ==
                        Approx(r.v(i)).margin(kMargin));
            }
    }
    const Cubic c = Cubic::through({1, 3, 4, 9}, 1);
    CHECK(c(0) == Approx(1));
    CHECK(c(1) == Approx(3));
    CHECK(c(2) == Approx(4));
    CHECK(c(3) == Approx(9));
}
