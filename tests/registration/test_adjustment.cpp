// Many frames at once: the lens of a rig, chains of frames, and what does not depend on order or threads.
#include "support/instruction_sets.hpp"

#include <kasane/base/error.hpp>
#include <kasane/registration/align.hpp>
#include <kasane/registration/products_kernel.hpp>
#include <kasane/sky/star_views.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

constexpr int kMany = 10, kListed = 200; // fewer frames and stars would not tell half a per cent

struct Frames {
    sky::StarViewOptions options;
    sky::StarFrames sky;
    std::vector<FrameToAlign> list;
    Frames(const sky::StarViewOptions& o, int count, double drift = 0, std::uint64_t seed = 5)
        : options(o), sky(sky::star_frames(o, seed, count, drift)) {
        for (int i = 0; i < count; ++i)
            list.push_back({&sky.lists[static_cast<std::size_t>(i)], o.width, o.height, "frame " + std::to_string(i),
                            "rig", 60.0 * i});
    }
    /// Root mean square over the whole frame, also where it does not show the reference.
    double error(std::size_t i, const Registration& r) const {
        double squares = 0;
        int n = 0;
        for (int y = 0; y <= 10; ++y)
            for (int x = 0; x <= 10; ++x, ++n) {
                const Point at{0.1 * x * (options.width - 1), 0.1 * y * (options.height - 1)};
                const Point p = r.to_frame.map(sky.truth[i].unmap(at));
                squares += (p.x - at.x) * (p.x - at.x) + (p.y - at.y) * (p.y - at.y);
            }
        return std::sqrt(squares / n);
    }
};

sky::StarViewOptions dithered() {
    sky::StarViewOptions o;
    o.width = 3000, o.height = 2000, o.any_turn = false;
    o.least_overlap = 0.95, o.most_overlap = 0.99;
    o.stars = kListed;
    return o;
}

} // namespace

TEST_CASE("The lens of a rig follows from frames that are only dithered, and serves each of them") {
    sky::StarViewOptions o = dithered();
    o.distortion = GENERATE(0.005, 0.02);
    const Frames f(o, kMany);
    const Alignment a = align_frames(f.list, 0, {}, Workers(2));
    REQUIRE(a.rigs.count("rig") == 1);
    const RigOptics& rig = a.rigs.at("rig");
    REQUIRE(rig.lens);
    CHECK(rig.corner == Approx(o.distortion).epsilon(0.06)); // with as many stars: a fifth of it at one sigma
    CHECK(rig.before > 1.1 * rig.after);
    CHECK(rig.after == Approx(0.14).epsilon(0.1)); // 0.1 px along both axes
    CHECK_THAT(rig.text(), Catch::Contains("radial distortion") && Catch::Contains("% at the corner (residual"));
    for (std::size_t i = 1; i < f.list.size(); ++i) {
        REQUIRE(a.frames[i]);
        // Four numbers of 90 stars at least, 0.14 px each: 0.03; twice of it, and the lens.
        CHECK(f.error(i, *a.frames[i]) < 0.08);
        CHECK(a.frames[i]->rms < 1.2 * a.frames[i]->expected);
    }
}

TEST_CASE("Where there is no distortion none is found") {
    sky::StarViewOptions o = dithered();
    o.any_turn = GENERATE(false, true);
    const Frames f(o, kMany);
    const Alignment a = align_frames(f.list, 0, {}, Workers(2));
    CHECK_FALSE(a.rigs.at("rig").lens);
    CHECK(a.rigs.at("rig").model == Model{Mapping::similarity, Optics::none});
    CHECK(a.rigs.at("rig").text() == "similarity");
}

TEST_CASE("A frame with a handful of stars has the use of a lens that others determined") {
    sky::StarViewOptions o = dithered();
    o.distortion = 0.02, o.any_turn = true;
    Frames f(o, 10);
    f.sky.lists[4].resize(14); // far too few for a lens
    const Alignment a = align_frames(f.list, 0, {}, Workers(2));
    REQUIRE(a.frames[4]);
    CHECK(a.frames[4]->matched >= 9);
    CHECK(f.error(4, *a.frames[4]) < 0.3);
}

TEST_CASE("Errors do not add up along a row of frames of which each shows only the next") {
    sky::StarViewOptions o = dithered();
    o.least_overlap = 0.99;
    // In steps that make fields of their own, and in smaller ones that lead on.
    const auto [count, drift] = GENERATE(std::pair(9, 0.3), std::pair(12, 0.21));
    const Frames f(o, count, drift);
    const Alignment a = align_frames(f.list, 0, {}, Workers(2));
    int through = 0;
    for (std::size_t i = 0; i < f.list.size(); ++i) {
        INFO(i);
        REQUIRE(a.frames[i]);
        through += a.frames[i]->way.rfind("through frame ", 0) == 0;
        CHECK(f.error(i, *a.frames[i]) < 0.5); // 2.4 widths away; a turn of 0.02 px over the overlap is 0.1 there
        if (i > 0) CHECK(a.frames[i]->rms < 1.3 * a.frames[i]->expected);
    }
    CHECK(through >= 4);
}

TEST_CASE("An alignment does not depend on the threads, and hardly on the order of the frames") {
    sky::StarViewOptions o = dithered();
    o.distortion = 0.01;
    const Frames f(o, kMany - 2, 0.15);
    const Alignment one = align_frames(f.list, 0, {}, Workers(1)), three = align_frames(f.list, 0, {}, Workers(3));
    std::vector<FrameToAlign> backwards(f.list.rbegin(), f.list.rend());
    const Alignment other = align_frames(backwards, f.list.size() - 1, {}, Workers(2));
    for (std::size_t i = 0; i < f.list.size(); ++i) {
        REQUIRE(one.frames[i]);
        CHECK(one.frames[i]->to_frame.projective() == three.frames[i]->to_frame.projective());
        const Outcome& same = other.frames[f.list.size() - 1 - i];
        REQUIRE(same);
        const Point p = one.frames[i]->to_frame.map({1000, 700}), q = same->to_frame.map({1000, 700});
        CHECK(std::hypot(p.x - q.x, p.y - q.y) < 5e-3); // weights settle to a thousandth of their scale
    }
}

TEST_CASE("A frame of another field is said to be one, whatever the others show") {
    sky::StarViewOptions o = dithered();
    Frames f(o, 6);
    o.unrelated = true;
    const auto other = sky::star_views(o, 99).frame;
    f.list[3].stars = &other;
    const Alignment a = align_frames(f.list, 0, {}, Workers(2));
    CHECK_FALSE(a.frames[3]);
    CHECK(a.frames[3].hindrance == Hindrance::no_agreement);
    for (const std::size_t i : {1u, 2u, 4u, 5u})
        CHECK(a.frames[i]);
}

TEST_CASE("What is known of a rig is kept, frames without stars and a reference that is none are told") {
    sky::StarViewOptions o = dithered();
    Frames f(o, 4);
    AlignOptions known;
    known.known["rig"].model = {Mapping::affine, Optics::none};
    f.sky.lists[2].clear();
    const Alignment a = align_frames(f.list, 0, known, Workers(2));
    CHECK(a.rigs.at("rig").model == Model{Mapping::affine, Optics::none});
    CHECK(a.frames[1]->model.mapping == Mapping::affine);
    CHECK(a.frames[2].hindrance == Hindrance::too_few_stars);
    CHECK_THROWS_AS(align_frames(f.list, 4, {}, Workers(1)), UsageError);
    Adjustment nothing;
    CHECK_FALSE(adjust(nothing).hindrance.empty());
}

TEST_CASE("Products are subtracted as single numbers are, to the bit") {
    const int sets = test::on_every_instruction_set([] {
        for (const std::size_t n : {0u, 1u, 3u, 8u, 9u, 31u, 300u}) {
            std::vector<double> x(n), y(n), to(n), expected(n);
            for (std::size_t i = 0; i < n; ++i) {
                x[i] = std::sin(1.0 + static_cast<double>(i)), y[i] = std::cos(2.0 * static_cast<double>(i));
                to[i] = std::sin(0.3 * static_cast<double>(i));
                const volatile double one = 0.71 * x[i], two = -1.3 * y[i], sum = one + two;
                expected[i] = to[i] - sum;
            }
            subtract_products(0.71, x.data(), -1.3, y.data(), n, to.data());
            CHECK(to == expected);
        }
    });
    CHECK(sets >= 1);
}
