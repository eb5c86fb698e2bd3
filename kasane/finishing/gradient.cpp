#include <kasane/finishing/gradient.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/finishing/sky_polynomial.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/normalization/smooth_fit.hpp>
#include <kasane/stars/sky_mean.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <optional>
#include <random>

namespace kasane {

namespace {

/// A surface below what is seen: of a polynomial, or a spline.
struct Shape {
    int degree = 1; ///< 0: a spline
    Smoothness smoothness;
    std::string text() const {
        return degree > 0 ? fmt::format("a polynomial of degree {}", degree) : std::string("a spline");
    }
    std::size_t least() const { ///< spots that it takes
        return degree > 0 ? static_cast<std::size_t>((degree + 1) * (degree + 2)) : 24;
    }
};

/// One surface with what it makes of every spot.
struct Settled {
    Shape shape;
    Eigen::VectorXd sky;                                          ///< by spot: how likely it is sky
    double likelihood = -std::numeric_limits<double>::infinity(); ///< logarithm
    std::size_t count() const { return static_cast<std::size_t>((sky.array() > 0.5).count()); }
};

class Fitter {
public:
    Fitter(const std::vector<SkySpot>& spots, int width, int height, double spacing_of_spots, const Workers& workers)
        : workers_(workers), spots_(spots), width_(width), height_(height), canvas_(reference_canvas(width, height)),
          spline_(canvas_, std::max(width, height) / 16.0) {
        std::vector<float> values;
        for (const SkySpot& s : spots_) {
            if (s.use == SkySpot::Use::forbidden) continue;
            values.push_back(s.value);
            allowed_.push_back(static_cast<Eigen::Index>(&s - spots_.data()));
        }
        for (int degree = 1; degree <= GradientOptions::kMostDegree; ++degree)
            polynomials_.emplace_back(degree, spots_, width_, height_);
        if (allowed_.empty()) return;
        noise_ = noise_of(spots_);
        scatter_ = std::max(noise_, own_scatter(spots_, spacing_of_spots));
        range_ = std::max(10 * scatter_,
                          static_cast<double>(quantile_in_place(values, 0.95) - quantile_in_place(values, 0.05)));
    }
    std::size_t allowed() const { return allowed_.size(); }

    /// Of this shape, from what a simpler one makes of the spots, from all of them, and of few terms from surfaces
    /// through a few spots each (M. Fischler and R. Bolles, Commun. ACM 24, 1981), those on which most others lie.
    Settled best_of(const Shape& shape, const Settled* simpler) const {
        Settled best;
        const auto attempt = [&](Eigen::VectorXd sky) {
            Settled one = settle(shape, std::move(sky), kRounds);
            if (one.count() >= shape.least() && one.likelihood > best.likelihood) best = std::move(one);
        };
        Eigen::VectorXd all = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(spots_.size()));
        for (const Eigen::Index k : allowed_)
            all[k] = 1;
        attempt(all);
        if (simpler) attempt(simpler->sky);
        constexpr int kMostTerms = 10;
        if (shape.degree == 0 || SkyPolynomial::terms(shape.degree) > kMostTerms) return best;
        for (Settled& s : searched(shape))
            attempt(std::move(s.sky));
        return best;
    }

    /// From what another surface makes of the spots: by expectation and maximisation (A. Dempster et al., J. R. Stat.
    /// Soc. B 39, 1977), narrower from round to round.
    Settled settle(const Shape& shape, Eigen::VectorXd sky, int rounds) const {
        Settled out{shape, std::move(sky), {}};
        Eigen::VectorXd r;
        const int most = shape.degree > 0 ? rounds : kSplineRounds;
        for (int round = 0; round < most; ++round) {
            r = left_by_fit(shape, out.sky);
            const double wide = std::max(1.0, kWide * std::pow(0.7, round));
            const Eigen::VectorXd next = judged(r, wide, out.sky.sum());
            const double changed = (next - out.sky).cwiseAbs().maxCoeff();
            out.sky = next;
            if (wide == 1 && changed < 1e-3) break;
        }
        out.likelihood = 0;
        const double share = share_of(out.sky.sum());
        for (const Eigen::Index k : allowed_)
            out.likelihood += std::log(densities(r[k], 1, share).all());
        return out;
    }

    Surface surface_of(const Settled& s) const {
        if (s.shape.degree > 0) {
            const SkyPolynomialFit& fit = polynomial(s.shape.degree);
            return fit.surface(fit.solve(s.sky));
        }
        return spline_through(s.shape, s.sky);
    }

    /// Mean square by which blocks that are left out are foretold wrongly, over the spots that are sky.
    double foretold(const Settled& s) const {
        constexpr int kAcross = 6, kFolds = 5;
        double sum = 0, weights = 0;
        for (int fold = 0; fold < kFolds; ++fold) {
            const auto left_out = [&](Eigen::Index k) {
                const SkySpot& spot = spots_[static_cast<std::size_t>(k)];
                const int i = static_cast<int>(kAcross * (spot.x + 0.5) / width_),
                          j = static_cast<int>(kAcross * (spot.y + 0.5) / height_);
                return (i + 2 * j) % kFolds == fold;
            };
            Eigen::VectorXd rest = s.sky;
            for (Eigen::Index k = 0; k < rest.size(); ++k)
                if (left_out(k)) rest[k] = 0;
            if (rest.sum() < static_cast<double>(s.shape.least())) return std::numeric_limits<double>::infinity();
            const Eigen::VectorXd r = left_by_fit(s.shape, rest);
            for (Eigen::Index k = 0; k < rest.size(); ++k)
                if (left_out(k)) sum += s.sky[k] * r[k] * r[k], weights += s.sky[k];
        }
        return weights > 0 ? sum / weights : std::numeric_limits<double>::infinity();
    }

    Smoothness smoothness(const Eigen::VectorXd& sky) const { return spline_.choose(samples(sky)); }

    Eigen::VectorXd left_by(const Surface& surface) const {
        Eigen::VectorXd r(static_cast<Eigen::Index>(spots_.size()));
        for (Eigen::Index k = 0; k < r.size(); ++k) {
            const SkySpot& s = spots_[static_cast<std::size_t>(k)];
            r[k] = static_cast<double>(s.value) - surface(s.x, s.y);
        }
        return r;
    }
    double scatter() const { return scatter_; }
    void widen() { scatter_ *= 2; }

    /// Faint nebula lies on more places of sky towards the middle of a nebula, so that a bent surface rises there. What
    /// is closest together lies lowest: narrower and narrower, down to what noise alone makes.
    Settled lowered(Settled settled) {
        constexpr double kFew = 0.1; // of the spots
        const double scatter = scatter_;
        for (scatter_ /= 2; scatter_ > 0.7 * noise_; scatter_ /= 2) {
            Settled next = settle(settled.shape, settled.sky, kRounds);
            if (static_cast<double>(next.count()) < kFew * static_cast<double>(allowed_.size()) ||
                next.count() < 2 * settled.shape.least())
                break;
            settled = std::move(next);
        }
        scatter_ = scatter;
        return settled;
    }

    /// Of sixteen parts of the field, those that show sky.
    int parts(const Eigen::VectorXd& sky) const {
        constexpr int kAcross = 4, kFew = 3;
        std::array<double, kAcross * kAcross> of{};
        for (Eigen::Index k = 0; k < sky.size(); ++k) {
            const SkySpot& s = spots_[static_cast<std::size_t>(k)];
            const int i = static_cast<int>(kAcross * (s.x + 0.5) / width_),
                      j = static_cast<int>(kAcross * (s.y + 0.5) / height_);
            of[static_cast<std::size_t>(std::min(j, kAcross - 1) * kAcross + std::min(i, kAcross - 1))] += sky[k];
        }
        return static_cast<int>(std::count_if(of.begin(), of.end(), [](double n) { return n >= kFew; }));
    }

private:
    static constexpr double kWide = 4;         ///< what counts as sky to begin with, in units of its scatter
    static constexpr double kSkyAtFirst = 0.4; ///< share of all
    static constexpr int kRounds = 60, kSplineRounds = 8;

    const SkyPolynomialFit& polynomial(int degree) const { return polynomials_[static_cast<std::size_t>(degree) - 1]; }

    Eigen::VectorXd left_by_fit(const Shape& shape, const Eigen::VectorXd& sky) const {
        if (shape.degree == 0) return left_by(spline_through(shape, sky));
        const SkyPolynomialFit& fit = polynomial(shape.degree);
        return fit.residuals(fit.solve(sky));
    }

    /// The likeliest of surfaces that were begun with few spots, after a few rounds.
    std::vector<Settled> searched(const Shape& shape) const {
        const SkyPolynomialFit& fit = polynomial(shape.degree);
        std::vector<std::pair<double, Eigen::VectorXd>> starts;
        constexpr std::size_t kTries = 3000, kTried = 60, kKept = 4;
        starts.resize(kTries);
        constexpr std::size_t kAtOnce = 50;
        workers_.for_each(kTries / kAtOnce, [&](std::size_t part) {
            for (std::size_t k = part * kAtOnce; k < (part + 1) * kAtOnce; ++k)
                starts[k] = through_few(fit, k);
        });
        std::erase_if(starts, [](const auto& s) { return !s.second.allFinite(); });
        std::stable_sort(starts.begin(), starts.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
        starts.resize(std::min(starts.size(), kTried));
        starts.emplace_back(0, below(fit));
        constexpr int kFew = 6;
        std::vector<Settled> out(starts.size());
        workers_.for_each(starts.size(), [&](std::size_t k) {
            out[k] = settle(
                shape,
                judged(fit.residuals(starts[k].second), kWide, kSkyAtFirst * static_cast<double>(allowed_.size())),
                kFew);
        });
        std::stable_sort(out.begin(), out.end(),
                         [](const Settled& a, const Settled& b) { return a.likelihood > b.likelihood; });
        out.resize(std::min(out.size(), kKept));
        return out;
    }

    struct Densities {
        double sky = 0, above = 0, other = 0; ///< times their shares
        double all() const { return sky + above + other; }
    };
    /// A place lies so far above a surface; sky scatters by `wide` times its scatter and is a share of all.
    Densities densities(double r, double wide, double share) const {
        constexpr double kStray = 0.002; // share of what lies anywhere, below as well
        const double t = r / (wide * scatter_);
        return {share * std::exp(-0.5 * t * t) / (wide * scatter_ * std::sqrt(2 * kPi)),
                (1 - share) / range_ * 0.5 * std::erfc(-t / std::sqrt(2.0)), kStray / range_};
    }
    double share_of(double count) const { return std::clamp(count / static_cast<double>(allowed_.size()), 0.05, 0.98); }

    Eigen::VectorXd judged(const Eigen::VectorXd& r, double wide, double count) const {
        Eigen::VectorXd sky = Eigen::VectorXd::Zero(r.size());
        const double share = share_of(count);
        for (const Eigen::Index k : allowed_) {
            const Densities d = densities(r[k], wide, share);
            const double is = d.sky / d.all();
            sky[k] = spots_[static_cast<std::size_t>(k)].by_hand ? 1 : is < 1e-6 ? 0 : is;
        }
        return sky;
    }

    static double noise_of(const std::vector<SkySpot>& spots) {
        std::vector<float> noises;
        for (const SkySpot& s : spots)
            noises.push_back(s.noise);
        return noises.empty() ? 1e-6 : std::max(1e-6, static_cast<double>(median_in_place(noises)));
    }

    /// What places of sky scatter by: their second differences, which no gradient reaches, of the smoothest.
    static double own_scatter(const std::vector<SkySpot>& spots, double spacing) {
        std::map<std::pair<int, int>, const SkySpot*> at;
        for (const SkySpot& s : spots)
            at[{static_cast<int>(s.x / spacing), static_cast<int>(s.y / spacing)}] = &s;
        std::vector<float> differences;
        for (const auto& one : at) {
            const std::pair<int, int>& place = one.first;
            const SkySpot* s = one.second;
            const auto value = [&](int i, int j) {
                const auto there = at.find({place.first + i, place.second + j});
                return there == at.end() ? kNoData : there->second->value;
            };
            const float across = value(-1, 0) - 2 * s->value + value(1, 0),
                        down = value(0, -1) - 2 * s->value + value(0, 1);
            // The larger of two, so that a ramp of nebula is not smooth for being so in one direction.
            if (std::isfinite(across) && std::isfinite(down))
                differences.push_back(std::max(std::abs(across), std::abs(down)));
        }
        constexpr double kShare = 0.1, kOfNormal = 1; // that quantile of the larger of two such of scatter 1
        return differences.size() < 10 ? 0 : static_cast<double>(quantile_in_place(differences, kShare)) / kOfNormal;
    }

    /// A surface that most of what is seen lies above (R. Koenker and G. Bassett).
    Eigen::VectorXd below(const SkyPolynomialFit& fit) const {
        constexpr double kBelow = 0.15; // share of what counts that lies below
        constexpr int kTurns = 40;
        Eigen::VectorXd weights = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(spots_.size()));
        for (const Eigen::Index k : allowed_)
            weights[k] = 1;
        Eigen::VectorXd c = fit.solve(weights);
        for (int round = 0; round < kTurns; ++round) { // iteratively reweighted least squares
            const Eigen::VectorXd r = fit.residuals(c);
            for (const Eigen::Index k : allowed_)
                weights[k] = (r[k] > 0 ? kBelow : 1 - kBelow) / std::max(std::abs(r[k]), 0.3 * scatter_);
            c = fit.solve(weights);
        }
        return c;
    }

    /// The k-th surface through as few spots as determine it, and how well it agrees with some of the others.
    std::pair<double, Eigen::VectorXd> through_few(const SkyPolynomialFit& fit, std::uint64_t k) const {
        std::mt19937_64 random(977 * k + static_cast<std::uint64_t>(fit.terms()));
        std::vector<Eigen::Index> near = allowed_, few;
        if (k % 2 == 0) { // from a part of the field, since sky lies together
            const SkySpot& middle =
                spots_[static_cast<std::size_t>(allowed_[static_cast<std::size_t>(random() % allowed_.size())])];
            const double reach = 0.15 + 0.35 * static_cast<double>(random() >> 11) * 0x1p-53;
            std::erase_if(near, [&](Eigen::Index n) {
                const SkySpot& s = spots_[static_cast<std::size_t>(n)];
                return std::abs(s.x - middle.x) > reach * width_ || std::abs(s.y - middle.y) > reach * height_;
            });
        }
        const auto wanted = static_cast<std::size_t>(fit.terms());
        if (near.size() < wanted) return {0, Eigen::VectorXd::Constant(static_cast<Eigen::Index>(wanted), kNoData)};
        while (few.size() < wanted) {
            const Eigen::Index one = near[static_cast<std::size_t>(random() % near.size())];
            if (std::find(few.begin(), few.end(), one) == few.end()) few.push_back(one);
        }
        const Eigen::VectorXd c = fit.through(few);
        constexpr std::size_t kJudged = 500;
        const std::size_t step = std::max<std::size_t>(1, allowed_.size() / kJudged);
        double score = 0;
        for (std::size_t i = 0; i < allowed_.size(); i += step)
            score += std::log(densities(fit.residual(allowed_[i], c), kWide, kSkyAtFirst).all());
        return {score, c};
    }

    std::vector<LevelSample> samples(const Eigen::VectorXd& sky) const {
        std::vector<LevelSample> out;
        for (Eigen::Index k = 0; k < sky.size(); ++k) {
            const SkySpot& s = spots_[static_cast<std::size_t>(k)];
            if (sky[k] > 0.05) out.push_back({s.x, s.y, s.value, sky[k]});
        }
        return out;
    }

    Surface spline_through(const Shape& shape, const Eigen::VectorXd& sky) const {
        LevelMap map;
        map.centre = canvas_.centre();
        map.offset = spline_.fit(samples(sky), shape.smoothness);
        return [map](double x, double y) { return map.offset_at({x, y}); };
    }

    const Workers& workers_;
    const std::vector<SkySpot>& spots_;
    std::vector<Eigen::Index> allowed_;
    double scatter_ = 1, noise_ = 1, range_ = 1; ///< ADU: of sky; by its pixels alone; of everything
    int width_, height_;
    Canvas canvas_;
    SmoothFit spline_;
    std::vector<SkyPolynomialFit> polynomials_; ///< by degree, from 1 on
};

bool inside(const std::vector<Region>& boxes, double x, double y) {
    return std::any_of(boxes.begin(), boxes.end(), [&](const Region& r) {
        return x >= r.x - 0.5 && y >= r.y - 0.5 && x < r.right() - 0.5 && y < r.bottom() - 0.5;
    });
}

/// Squares of so many cells that some forty lie along the shorter side; a spot where half of them are known.
std::vector<SkySpot> spots_of(const SkyMeans& means, double noise, const GradientOptions& o, int& side) {
    constexpr int kAcross = 40;
    const int cells = std::max(1, std::min(means.values.width(), means.values.height()) / kAcross);
    side = cells * means.cell;
    std::vector<SkySpot> spots;
    std::vector<float> values;
    for (int j = 0; j < means.values.height(); j += cells)
        for (int i = 0; i < means.values.width(); i += cells) {
            const Region part = intersect({i, j, cells, cells}, means.values.bounds());
            values.clear();
            for (int y = part.y; y < part.bottom(); ++y)
                for (int x = part.x; x < part.right(); ++x)
                    if (std::isfinite(means.values(x, y))) values.push_back(means.values(x, y));
            if (values.empty() || 2 * values.size() < static_cast<std::size_t>(part.area())) continue;
            SkySpot s;
            s.x = (part.x + 0.5 * part.width) * means.cell - 0.5, s.y = (part.y + 0.5 * part.height) * means.cell - 0.5;
            s.x = std::min<double>(s.x, means.width - 1), s.y = std::min<double>(s.y, means.height - 1);
            s.noise = static_cast<float>(noise / (means.cell * std::sqrt(static_cast<double>(values.size()))));
            s.value = median_in_place(values);
            s.by_hand = inside(o.sky, s.x, s.y);
            if (inside(o.not_sky, s.x, s.y)) s.use = SkySpot::Use::forbidden;
            spots.push_back(s);
        }
    return spots;
}

SmoothSurface sampled(const Surface& surface, int width, int height, const Workers& workers) {
    constexpr int kStep = 16;
    SmoothSurface out;
    out.step = kStep;
    out.nodes = Image((width - 1) / kStep + 2, (height - 1) / kStep + 2);
    workers.for_each(static_cast<std::size_t>(out.nodes.height()), [&](std::size_t j) {
        for (int i = 0; i < out.nodes.width(); ++i)
            out.nodes(i, static_cast<int>(j)) = static_cast<float>(surface(i * kStep, static_cast<double>(j) * kStep));
    });
    return out;
}

} // namespace

std::string GradientOptions::check() const {
    if (degree < 0 || degree > kMostDegree) return fmt::format("a polynomial has a degree of 1 to {}", kMostDegree);
    if (degree > 0 && kind == GradientKind::spline) return "a spline has no degree";
    return {};
}

float SmoothSurface::at(double x, double y) const {
    const auto place = [&](double v, int count, double& part) {
        const int i = std::clamp(static_cast<int>(std::floor(v / step)), 0, count - 2);
        part = v / step - i;
        return i;
    };
    double tx = 0, ty = 0;
    const int i = place(x, nodes.width(), tx), j = place(y, nodes.height(), ty);
    const double upper = (1 - tx) * static_cast<double>(nodes(i, j)) + tx * static_cast<double>(nodes(i + 1, j)),
                 lower =
                     (1 - tx) * static_cast<double>(nodes(i, j + 1)) + tx * static_cast<double>(nodes(i + 1, j + 1));
    return static_cast<float>((1 - ty) * upper + ty * lower);
}

void SmoothSurface::row(int y, int width, float* out) const {
    const int j = std::min(y / step, nodes.height() - 2);
    const float t = static_cast<float>(y - j * step) / static_cast<float>(step);
    const float *upper = nodes.plane().row(j), *lower = nodes.plane().row(j + 1);
    for (int i = 0; i * step < width; ++i) {
        const float first = (1 - t) * upper[i] + t * lower[i], next = (1 - t) * upper[i + 1] + t * lower[i + 1];
        const int end = std::min(width, (i + 1) * step);
        for (int x = i * step; x < end; ++x)
            out[x] = first + (next - first) * (static_cast<float>(x - i * step) / static_cast<float>(step));
    }
}

double Gradient::share() const {
    const auto are =
        std::count_if(spots.begin(), spots.end(), [](const SkySpot& s) { return s.use == SkySpot::Use::sky; });
    return spots.empty() ? 0 : static_cast<double>(are) / static_cast<double>(spots.size());
}

Gradient fit_gradient(View<const float> plane, const StarList& stars, const GradientOptions& o,
                      const Workers& workers) {
    if (const std::string wrong = o.check(); !wrong.empty()) throw UsageError(wrong, {}, {});
    Gradient g;
    const SkyMeans means = mean_sky(plane, stars.background, {stars.stars, stars.fwhm, {}, 1});
    g.spots = spots_of(means, stars.noise, o, g.side);
    constexpr std::size_t kFewest = 6;
    const auto refuse = [&](std::size_t found) {
        throw DataError(fmt::format("only {} place{} of it {} sky, which tells no gradient", found,
                                    found == 1 ? "" : "s", found == 1 ? "is" : "are"),
                        {}, "Name boxes that are sky, or leave its gradient as it is");
    };
    if (g.spots.size() < kFewest) refuse(g.spots.size());
    Fitter fitter(g.spots, plane.width, plane.height, g.side, workers);
    if (fitter.allowed() < kFewest) refuse(fitter.allowed());
    const bool given = o.kind == GradientKind::polynomial && o.degree > 0;
    Shape first;
    first.degree = given ? std::min(o.degree, 2) : 1;
    Settled best = fitter.best_of(first, nullptr);
    constexpr int kWidenings = 6; // nebula everywhere: sky is what lies lowest, however much it scatters
    for (int k = 0; k < kWidenings && best.count() < kFewest; ++k) {
        fitter.widen();
        best = fitter.best_of(first, nullptr);
    }
    if (best.count() < kFewest) refuse(best.count());
    const auto bend = [&](const Shape& shape, bool anyway) {
        if (best.count() < shape.least()) return;
        Settled bent = fitter.best_of(shape, &best);
        if (bent.count() < shape.least()) return;
        const auto worth = [&](const Settled& s) { // G. Schwarz, Ann. Stat. 6, 1978
            return s.likelihood -
                   0.5 * SkyPolynomial::terms(s.shape.degree) * std::log(static_cast<double>(fitter.allowed()));
        };
        // What lies in the fringes of a nebula makes a bent surface somewhat likelier.
        const double surely = 0.15 * static_cast<double>(fitter.allowed());
        constexpr double kSteady = 4;
        if (anyway || (worth(bent) > worth(best) + surely &&
                       fitter.foretold(bent) < kSteady * fitter.scatter() * fitter.scatter()))
            best = std::move(bent);
    };
    constexpr int kMost = 4;
    for (int degree = best.shape.degree + 1; degree <= (given ? o.degree : kMost); ++degree) {
        Shape shape;
        shape.degree = degree;
        bend(shape, given);
    }
    if (o.kind == GradientKind::spline) {
        Shape spline;
        spline.degree = 0;
        spline.smoothness = fitter.smoothness(best.sky);
        bend(spline, true);
    }
    best = fitter.lowered(std::move(best));
    const Surface surface = fitter.surface_of(best);
    const Eigen::VectorXd left = fitter.left_by(surface);
    double squares = 0, expected = 0;
    std::vector<float> all;
    for (std::size_t k = 0; k < g.spots.size(); ++k) {
        SkySpot& s = g.spots[k];
        if (s.use == SkySpot::Use::forbidden) continue;
        all.push_back(static_cast<float>(left[static_cast<Eigen::Index>(k)]));
        s.use = best.sky[static_cast<Eigen::Index>(k)] > 0.5 ? SkySpot::Use::sky : SkySpot::Use::bright;
        if (s.use != SkySpot::Use::sky) continue;
        squares += left[static_cast<Eigen::Index>(k)] * left[static_cast<Eigen::Index>(k)];
        expected += static_cast<double>(s.noise) * s.noise;
    }
    const auto count = static_cast<double>(best.count());
    g.kind = best.shape.text();
    g.parts = fitter.parts(best.sky);
    g.left = std::sqrt(squares / count), g.expected = std::sqrt(expected / count);
    g.surface = sampled(surface, plane.width, plane.height, workers);
    double sum = 0, least = HUGE_VAL, most = -HUGE_VAL;
    const int across = 64;
    for (int j = 0; j < across; ++j)
        for (int i = 0; i < across; ++i) {
            const double v =
                g.surface.at((i + 0.5) * plane.width / across - 0.5, (j + 0.5) * plane.height / across - 0.5);
            sum += v, least = std::min(least, v), most = std::max(most, v);
        }
    g.level = sum / (across * across), g.size = most - least;
    // What noise alone puts below so small a share of the places lies 2.05 sigma down: the rest of it is nebula, on
    // which the surface lies.
    constexpr double kDarkest = 0.02, kDown = 2.0537;
    const double darkest = static_cast<double>(quantile_in_place(all, kDarkest)) + kDown * g.expected;
    g.sky = g.level + std::min(0.0, darkest);
    return g;
}

void take_off(const Gradient& g, bool divide, View<float> plane, const Workers& workers) {
    if (divide)
        for (const float v : g.surface.nodes.pixels())
            if (!(v > 0))
                throw DataError("its sky is not above zero everywhere, so that nothing can be divided by it", {},
                                "Subtract its gradient instead");
    workers.for_each(static_cast<std::size_t>(plane.height), [&](std::size_t y) {
        std::vector<float> sky(static_cast<std::size_t>(plane.width));
        g.surface.row(static_cast<int>(y), plane.width, sky.data());
        float* row = plane.row(static_cast<int>(y));
        const auto level = static_cast<float>(g.level);
        for (std::size_t x = 0; x < sky.size(); ++x)
            row[x] = divide ? row[x] * (level / sky[x]) : row[x] - (sky[x] - level);
    });
}

} // namespace kasane
