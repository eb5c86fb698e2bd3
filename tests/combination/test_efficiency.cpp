#include <kasane/combination/efficiency.hpp>
#include <kasane/combination/quantiles.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;

namespace {

StackExpectation alike(int frames) {
    StackExpectation e;
    e.level = 100;
    e.frames.assign(static_cast<std::size_t>(frames), {1.0f / static_cast<float>(frames), 4, 0});
    return e;
}

double loss(int frames, const CombineOptions& options) {
    return measure_efficiency(alike(frames), options).loss;
}

} // namespace

TEST_CASE("Quantiles are those of the tables") {
    CHECK(normal_quantile(0.975) == Approx(1.959963985));
    CHECK(normal_quantile(1e-6) == Approx(-4.753424309));
    CHECK(student_quantile(0.975, 1) == Approx(12.70620474));
    CHECK(student_quantile(0.975, 10) == Approx(2.228138852));
    CHECK(student_quantile(0.05, 30) == Approx(-1.697260887));
    CHECK(student_quantile(0.9999, 52) == Approx(4.0034).epsilon(1e-3));
}

TEST_CASE("What a combination costs in noise is what theory says") {
    CHECK(loss(20, {NoRejection{}}) == 0);
    // Asymptotically pi / 2 - 1 = 0.571; 41 samples: 0.54.
    CHECK(loss(41, {NoRejection{}, Combination::median}) == Approx(0.55).margin(0.04));
    // A sample beyond c does not count: (1 - 2 c phi(c) - 2 Q(c)) to the -1 (F. Hampel), c = 3: 3.0 %, 3.5: 0.7 %.
    CHECK(loss(60, {NoiseRejection{3, 3, 4}}) == Approx(0.030).margin(0.005));
    CHECK(loss(60, {NoiseRejection{3.5f, 3.5f, 4}}) == Approx(0.0067).margin(0.002));
    // A spread that is believed only where it is wider costs less.
    CHECK(loss(60, {SigmaRejection{3, 3, 4}}) < 0.025);
    for (const int frames : {5, 10, 40}) {
        INFO(frames);
        CHECK(loss(frames, {NoRejection{}, Combination::huber}) < 0.03); // an efficiency of 97 % and more
        CHECK(loss(frames, {NoRejection{}, Combination::tukey}) < 0.03);
    }
    CHECK(measure_efficiency(alike(9), {NoRejection{}, Combination::sum}).noise_factor == Approx(9));
    // The largest of nine normal samples scatters by 0.5978, their mean by 1 / 3.
    CHECK(measure_efficiency(alike(9), {NoRejection{}, Combination::max}).noise_factor ==
          Approx(3 * 0.5978).epsilon(0.02));
    CHECK(measure_efficiency({{{1, 0, 0}, {1, 0, 0}}, 5, true}, {}).loss == 0); // no noise at all
}

TEST_CASE("Candidates lose less than what is allowed, and are those that so many frames allow") {
    const auto names = [](int frames) {
        std::string out;
        for (const RejectionCandidate& c : rejection_candidates(alike(frames), 0.01, Workers(2)))
            out += std::string(out.empty() ? "" : " ") + std::string(rejection_name(c.rejection));
        return out;
    };
    CHECK(names(1) == "none");
    CHECK(names(2) == "pair none");
    CHECK(names(3) == "sigma noise percentile min-max none");
    CHECK(names(9) == "sigma noise winsorized line percentile min-max none");
    CHECK(names(20) == "sigma noise winsorized line esd percentile min-max none");
    for (const RejectionCandidate& c : rejection_candidates(alike(30), 0.01, Workers(2))) {
        CHECK(c.loss == loss(30, {c.rejection}));
        if (const auto name = rejection_name(c.rejection); name != "percentile" && name != "min-max")
            CHECK(c.loss <= 0.01);
    }
    // What may be lost decides how narrow the limits are.
    const auto limit = [](double most) {
        return std::get<SigmaRejection>(rejection_candidates(alike(30), most, Workers(1)).front().rejection).high;
    };
    CHECK(limit(0.05) < limit(0.01));
    CHECK(limit(0.01) < limit(0.002));
}
