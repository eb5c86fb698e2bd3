// What may lie between two frames: derivatives, conversions, fits and their choice.
#include <kasane/base/units.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/sky/star_views.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

LensNumbers some_lens() {
    LensNumbers l;
    l << -0.03, 0.012, -0.004, 0.002, -0.003, 0.04, -0.02;
    return l;
}

Matrix3 some_map(Mapping mapping) {
    Matrix3 m;
    switch (mapping) {
    case Mapping::shift:
        m << 1, 0, 0.2, 0, 1, -0.1, 0, 0, 1;
        break;
    case Mapping::similarity:
        m << 0.6, -0.8, 0.2, 0.8, 0.6, -0.1, 0, 0, 1;
        break;
    case Mapping::affine:
        m << 0.7, -0.5, 0.2, 0.6, 0.9, -0.1, 0, 0, 1;
        break;
    case Mapping::projective:
        m << 0.7, -0.5, 0.2, 0.6, 0.9, -0.1, 0.05, -0.08, 1;
        break;
    }
    return m;
}

const Normal kWide{{1499.5, 999.5}, 1802.7}, kSmall{{640, 480}, 800};

} // namespace

TEST_CASE("Derivatives of maps are those of differences") {
    const auto mapping = GENERATE(Mapping::shift, Mapping::similarity, Mapping::affine, Mapping::projective);
    const bool mirrored = GENERATE(false, true);
    Matrix3 m = some_map(mapping);
    if (mirrored && mapping == Mapping::shift) return;
    if (mirrored) m.col(1) *= -1;
    if (mirrored && mapping == Mapping::projective) m(2, 1) *= -1;
    const Eigen::Vector2d p(0.4, -0.7);
    const MappingSlopes s = mapping_slopes(m, mapping, p);
    constexpr double kStep = 1e-5, kError = 1e-8; // of second derivatives of order one
    for (int k = 0; k < freedom(mapping); ++k) {
        std::array<double, 8> by{};
        Matrix3 up = m, down = m;
        by[static_cast<std::size_t>(k)] = kStep;
        step(up, mapping, by.data());
        by[static_cast<std::size_t>(k)] = -kStep;
        step(down, mapping, by.data());
        const Eigen::Vector2d d =
            (mapping_slopes(up, mapping, p).at - mapping_slopes(down, mapping, p).at) / (2 * kStep);
        CHECK((d - s.by_mapping.col(k)).norm() < kError);
    }
    for (int k = 0; k < 2; ++k) {
        const Eigen::Vector2d e = kStep * Eigen::Vector2d::Unit(k);
        const Eigen::Vector2d d =
            (mapping_slopes(m, mapping, p + e).at - mapping_slopes(m, mapping, p - e).at) / (2 * kStep);
        CHECK((d - s.by_position.col(k)).norm() < kError);
    }
}

TEST_CASE("Derivatives of a lens are those of differences, and it is undone") {
    const LensNumbers l = some_lens();
    const Eigen::Vector2d p(0.5, -0.6);
    const LensSlopes s = lens_slopes(l, p);
    constexpr double kStep = 1e-5, kError = 1e-8;
    for (int k = 0; k < kLensNumbers; ++k) {
        LensNumbers up = l, down = l;
        up[k] += kStep, down[k] -= kStep;
        const Eigen::Vector2d d = (lens_slopes(up, p).at - lens_slopes(down, p).at) / (2 * kStep);
        CHECK((d - s.by_lens.col(k)).norm() < kError);
    }
    for (int k = 0; k < 2; ++k) {
        const Eigen::Vector2d e = kStep * Eigen::Vector2d::Unit(k);
        CHECK(((lens_slopes(l, p + e).at - lens_slopes(l, p - e).at) / (2 * kStep) - s.by_position.col(k)).norm() <
              kError);
    }
    CHECK((undistorted(l, s.at) - p).norm() < 1e-12);
}

TEST_CASE("A fit of a kind begins and ends as one of the kind") {
    const Matrix3 affine = some_map(Mapping::affine), all = some_map(Mapping::projective);
    CHECK(restricted(all, Mapping::projective) == all);
    CHECK(restricted(all, Mapping::affine) == affine);
    for (const double side : {1., -1.}) {
        Matrix3 mirrored = affine;
        mirrored.col(1) *= side;
        const Matrix3 s = restricted(mirrored, Mapping::similarity);
        CHECK(s(0, 0) == Approx(side * s(1, 1)));
        CHECK(s(0, 1) == Approx(-side * s(1, 0)));
        CHECK(s.determinant() * side > 0);
    }
    // A sheared start fits better than any similarity: it must not stand for one.
    sky::StarViewOptions o;
    const sky::StarViews v = sky::star_views(o, 2);
    RegistrationOptions similar;
    similar.model = Model{Mapping::similarity, Optics::none};
    const Outcome r = register_stars(v.reference, v.frame, similar);
    REQUIRE(r);
    const Affine t = r->to_frame.at({});
    CHECK(std::abs(t.a - t.e) < 1e-12);
    CHECK(std::abs(t.b + t.d) < 1e-12);
}

TEST_CASE("Numbers of a fit and transforms in pixels say the same") {
    const LensNumbers l = some_lens();
    const auto lens = lens_of(l, kWide);
    REQUIRE(lens);
    CHECK((numbers_of(lens.get(), kWide) - l).norm() < 1e-12);
    CHECK(lens_of(LensNumbers::Zero(), kWide) == nullptr);
    const Point p = lens->distort({2500, 300});
    const Eigen::Vector2d q = lens_slopes(l, kWide.in({2500, 300})).at;
    CHECK(std::hypot(p.x - kWide.out(q).x, p.y - kWide.out(q).y) < 1e-9);
    const Normal other{{1400, 1000}, 900}; // the same lens in other units
    const Eigen::Vector2d r = lens_slopes(numbers_of(lens.get(), other), other.in({2500, 300})).at;
    CHECK(std::hypot(p.x - other.out(r).x, p.y - other.out(r).y) < 1e-9);

    const Matrix3 m = some_map(Mapping::projective);
    const auto pixels = pixel_matrix(m, kWide, kSmall);
    CHECK((normal_matrix(pixels, kWide, kSmall) - m).norm() < 1e-12);
    const Point there = Transform(pixels).map({2500, 300});
    const Eigen::Vector2d normal = mapping_slopes(m, Mapping::projective, kWide.in({2500, 300})).at;
    CHECK(std::hypot(there.x - kSmall.out(normal).x, there.y - kSmall.out(normal).y) < 1e-9);
    CHECK(Transform(pixel_matrix(some_map(Mapping::affine), kWide, kSmall)).is_affine());
}

namespace {

/// All true pairs of two views, and a fit to begin with.
struct Paired {
    sky::StarViews views;
    std::vector<StarMatch> matches;
    PairFit start;
    Paired(const sky::StarViewOptions& o, std::uint64_t seed) : views(sky::star_views(o, seed)) {
        const StarIndex index(views.frame);
        for (std::size_t i = 0; i < views.reference.size(); ++i) {
            const Point p = views.truth.map({views.reference[i].x, views.reference[i].y});
            if (const int j = index.nearest(p.x, p.y, 8 * o.noise); j >= 0) matches.push_back({static_cast<int>(i), j});
        }
        start.reference = start.frame = Normal::of(o.width, o.height);
        const Affine a = views.truth.at({0.5 * o.width, 0.5 * o.height});
        start.map = normal_matrix({a.a, a.b, a.c, a.d, a.e, a.f, 0, 0, 1}, start.reference, start.frame);
    }
};

PairFit model(PairFit start, Mapping mapping, Optics optics) {
    start.mapping = mapping, start.optics = optics;
    return start;
}

} // namespace

TEST_CASE("A lens follows from two frames that it shows turned against each other") {
    sky::StarViewOptions o;
    o.width = 3000, o.height = 2000, o.distortion = 0.01, o.stars = 400, o.least_overlap = o.most_overlap = 0.7;
    const Paired p(o, 11);
    const StarIndex index(p.views.frame);
    const StarPair pair{p.views.reference, p.views.frame, index};
    const auto fit = fit_pair(pair, p.matches, model(p.start, Mapping::affine, Optics::radial));
    REQUIRE(fit);
    // A star of 0.1 px at the corner tells the distortion to 0.14 / 1800 = 8e-5; 250 of them, most of them nearer the
    // middle, to some 2e-5.
    CHECK(fit->frame_lens[0] == Approx(0.01).margin(1e-4));
    CHECK(fit->frame_lens == fit->reference_lens);
    CHECK(sky::transform_error(fit->transform(), o, p.views.truth).worst < 0.15);
}

TEST_CASE("A few wrong pairs do not move a fit") {
    sky::StarViewOptions o;
    o.distortion = 0.01;
    Paired p(o, 12);
    for (std::size_t i = 0; i + 1 < 30; i += 2)
        std::swap(p.matches[i].frame, p.matches[i + 1].frame);
    const StarIndex index(p.views.frame);
    const StarPair pair{p.views.reference, p.views.frame, index};
    const auto fit = fit_pair(pair, p.matches, model(p.start, Mapping::affine, Optics::radial));
    REQUIRE(fit);
    CHECK(sky::transform_error(fit->transform(), o, p.views.truth).worst < 0.3);
}

TEST_CASE("The simplest model that foretells unseen stars is chosen") {
    struct Asked {
        double distortion, focal;
        Model wanted;
    };
    const auto asked =
        GENERATE(Asked{0, 0, {Mapping::affine, Optics::none}}, Asked{0, 2500, {Mapping::projective, Optics::none}},
                 Asked{0.005, 0, {Mapping::affine, Optics::radial}});
    sky::StarViewOptions o;
    o.width = 3000, o.height = 2000, o.distortion = asked.distortion, o.focal = asked.focal, o.swing = 4;
    o.least_overlap = o.most_overlap = 0.8;
    int right = 0;
    constexpr int kPairs = 10;
    for (int i = 0; i < kPairs; ++i) {
        const Paired p(o, 100 + static_cast<std::uint64_t>(i));
        const StarIndex index(p.views.frame);
        const StarPair pair{p.views.reference, p.views.frame, index};
        std::vector<PairFit> candidates;
        for (const Optics optics : {Optics::none, Optics::radial, Optics::centred})
            for (const Mapping mapping : {Mapping::affine, Mapping::projective})
                candidates.push_back(model(p.start, mapping, optics));
        const auto choice = choose_model(pair, p.matches, candidates);
        REQUIRE(choice);
        right += Model{choice->mapping, choice->optics} == asked.wanted;
    }
    CHECK(right >= kPairs - 3); // within one standard error: one in six may go the other way
}

TEST_CASE("The simplest of models is as good as the best if no test can tell, and no worse one that scatters more") {
    constexpr std::size_t kSightings = 60;
    const auto losses = [&](double more, double scatter) {
        std::vector<double> out(kSightings);
        for (std::size_t i = 0; i < kSightings; ++i)
            out[i] = 1 + more + (i % 2 ? scatter : -scatter);
        return out;
    };
    const std::vector<double> best = losses(0, 0), clearly = losses(0.1, 0.02), doubtful = losses(0.2, 0.9),
                              nearly = losses(0.001, 0);
    CHECK(simplest_as_good({clearly, best}, 0.005) == 1);
    CHECK(simplest_as_good({doubtful, best}, 0.005) == 0);
    CHECK(simplest_as_good({nearly, best}, 0.005) == 0);
    CHECK(simplest_as_good({clearly, doubtful, best}, 0.005) == 0); // better than what is as good
    CHECK(simplest_as_good({losses(0.3, 0.02), clearly, doubtful, best}, 0.005) == 1);
}

TEST_CASE("Too few pairs determine no fit") {
    const Paired p({}, 3);
    const StarIndex index(p.views.frame);
    const StarPair pair{p.views.reference, p.views.frame, index};
    const std::vector<StarMatch> two(p.matches.begin(), p.matches.begin() + 2);
    CHECK_FALSE(fit_pair(pair, two, model(p.start, Mapping::affine, Optics::none)));
    CHECK(fit_pair(pair, two, model(p.start, Mapping::similarity, Optics::none)));
    CHECK_FALSE(fit_pair(pair, {}, model(p.start, Mapping::shift, Optics::none)));
}
