#include <kasane/registration/fit.hpp>

#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <limits>
#include <numeric>

namespace kasane {

Transform PairFit::transform() const {
    return {pixel_matrix(map, reference, frame), lens_of(frame_lens, frame), lens_of(reference_lens, reference)};
}

namespace {

/// Of a pair, the error of its distance along one axis, frame pixels.
double pair_variance(const Star& reference, const Star& frame, double scale) {
    return position_variance(frame) + scale * scale * position_variance(reference);
}

class PairFitter {
public:
    PairFitter(const StarPair& pair, const std::vector<StarMatch>& matches, const PairFit& start,
               const std::vector<char>& use)
        : fit_(start) {
        const double scale = std::sqrt(std::abs(start.map.topLeftCorner<2, 2>().determinant())) * start.frame.radius /
                             start.reference.radius;
        for (std::size_t i = 0; i < matches.size(); ++i) {
            if (!use.empty() && !use[i]) continue;
            const Star &s = pair.of_reference(matches[i]), &t = pair.of_frame(matches[i]);
            points_.push_back({start.reference.in({s.x, s.y}), start.frame.in({t.x, t.y}),
                               std::sqrt(pair_variance(s, t, scale > 0 ? scale : 1)) / start.frame.radius});
        }
        fit_.map = restricted(fit_.map, fit_.mapping);
        const auto free = free_numbers(start.optics);
        for (int k = 0; k < kLensNumbers; ++k)
            if (free[static_cast<std::size_t>(k)]) lens_.push_back(k);
    }

    std::optional<PairFit> run(int rounds) {
        const int mapping = freedom(fit_.mapping), n = fit_.free();
        if (static_cast<int>(2 * points_.size()) < mapping) return std::nullopt;
        if (!lens_.empty() && static_cast<int>(2 * points_.size()) < n) return std::nullopt;
        double damping = 1e-6, scale = reweigh(fit_);
        constexpr double kSettled = 1e-7, kSameScale = 1e-3; // half diagonals
        for (int round = 0; round < rounds; ++round) {
            Square normal = Square::Zero(n, n);
            Numbers right = Numbers::Zero(n);
            const double cost = accumulate(normal, right, scale);
            for (int i = 0; i < n; ++i)
                normal(i, i) += damping * normal(i, i);
            const Eigen::LDLT<Square> solver(normal);
            if (!(solver.vectorD().minCoeff() > 1e-14 * solver.vectorD().maxCoeff())) return std::nullopt;
            const Numbers by = solver.solve(right);
            if (!by.allFinite()) return std::nullopt;
            PairFit next = fit_;
            take(next, by);
            if (const double then = cost_of(next, scale); then <= cost * (1 + 1e-12)) {
                fit_ = next;
                damping = std::max(1e-12, damping * 0.1);
                const double before = scale;
                scale = reweigh(fit_);
                if (by.norm() < kSettled && std::abs(scale - before) < kSameScale * before) break;
            } else {
                damping = std::max(1e-6, damping * 30);
                if (damping > 1e6) break;
            }
        }
        return fit_;
    }

private:
    static constexpr int kMostNumbers = 8 + 2 * kLensNumbers;
    using Square = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::ColMajor, kMostNumbers, kMostNumbers>;
    using Numbers = Eigen::Matrix<double, Eigen::Dynamic, 1, Eigen::ColMajor, kMostNumbers, 1>;

    struct Point {
        Eigen::Vector2d reference, frame;
        double sigma; ///< normal coordinates of the frame
        double weight = 1;
    };

    void take(PairFit& f, const Numbers& by) const {
        step(f.map, f.mapping, by.data());
        int at = freedom(f.mapping);
        const auto turn = [&](LensNumbers& l, int from) {
            for (const int k : lens_)
                l[k] += by[from++];
            return from;
        };
        switch (f.glass) {
        case Glass::same:
            turn(f.frame_lens, at);
            if (!lens_.empty()) f.reference_lens = f.frame_lens;
            break;
        case Glass::frame:
            turn(f.frame_lens, at);
            break;
        case Glass::reference:
            turn(f.reference_lens, at);
            break;
        case Glass::both:
            at = turn(f.frame_lens, at);
            turn(f.reference_lens, at);
            break;
        }
    }

    static Eigen::Vector2d residual(const PairFit& f, const Point& p) {
        const Eigen::Vector2d z = undistorted(f.reference_lens, p.reference);
        const double w = f.map(2, 0) * z.x() + f.map(2, 1) * z.y() + f.map(2, 2);
        const Eigen::Vector2d at(((f.map(0, 0) * z.x() + f.map(0, 1) * z.y()) + f.map(0, 2)) / w,
                                 ((f.map(1, 0) * z.x() + f.map(1, 1) * z.y()) + f.map(1, 2)) / w);
        return p.frame - lens_slopes(f.frame_lens, at).at;
    }

    /// Weights by the residuals; returns the scale of the residuals in units of the stars' errors.
    double reweigh(const PairFit& f) {
        std::vector<float> all;
        std::vector<double> r;
        for (const Point& p : points_) {
            r.push_back(residual(f, p).norm() / p.sigma);
            all.push_back(static_cast<float>(r.back()));
        }
        constexpr double kMedian = 1.17741; // of the length of a vector of two unit normals
        const double scale = std::max(0.3, static_cast<double>(median_in_place(all)) / kMedian);
        for (std::size_t i = 0; i < points_.size(); ++i)
            points_[i].weight = bisquare_weight(r[i] / (kBisquareTuning * scale), 1e-9);
        return scale;
    }

    double prior_cost(const LensNumbers& l, double scale) const {
        const LensNumbers prior = lens_prior();
        double sum = 0;
        for (const int k : lens_)
            sum += scale * scale * l[k] * l[k] / (prior[k] * prior[k]);
        return sum;
    }
    bool turns_reference() const { return fit_.glass == Glass::reference || fit_.glass == Glass::both; }
    bool turns_frame() const { return fit_.glass != Glass::reference; }

    double cost_of(const PairFit& f, double scale) const {
        double sum = (turns_frame() ? prior_cost(f.frame_lens, scale) : 0) +
                     (turns_reference() ? prior_cost(f.reference_lens, scale) : 0);
        for (const Point& p : points_)
            sum += p.weight * residual(f, p).squaredNorm() / (p.sigma * p.sigma);
        return sum;
    }

    /// Normal equations of one step; returns the cost where it begins.
    double accumulate(Square& normal, Numbers& right, double scale) const {
        const int mapping = freedom(fit_.mapping), terms = static_cast<int>(lens_.size()), n = fit_.free();
        const bool by_reference = terms && fit_.glass != Glass::frame;
        Eigen::Matrix<double, 2, kMostNumbers> j;
        double cost = 0;
        for (const Point& p : points_) {
            const Eigen::Vector2d z = undistorted(fit_.reference_lens, p.reference);
            const MappingSlopes q = mapping_slopes(fit_.map, fit_.mapping, z);
            const LensSlopes l = lens_slopes(fit_.frame_lens, q.at);
            const Eigen::Vector2d r = p.frame - l.at;
            j.leftCols(mapping) = l.by_position * q.by_mapping.leftCols(mapping);
            if (terms) {
                Eigen::Matrix<double, 2, kLensNumbers> reference = Eigen::Matrix<double, 2, kLensNumbers>::Zero();
                if (by_reference) {
                    const LensSlopes c = lens_slopes(fit_.reference_lens, z);
                    reference = -l.by_position * q.by_position * c.by_position.inverse() * c.by_lens;
                }
                int at = mapping;
                for (const int k : lens_) {
                    j.col(at) = fit_.glass == Glass::reference ? Eigen::Vector2d(reference.col(k))
                                : fit_.glass == Glass::same    ? Eigen::Vector2d(l.by_lens.col(k) + reference.col(k))
                                                               : Eigen::Vector2d(l.by_lens.col(k));
                    if (fit_.glass == Glass::both) j.col(at + terms) = reference.col(k);
                    ++at;
                }
            }
            const double w = p.weight / (p.sigma * p.sigma);
            for (int a = 0; a < n; ++a) { // plain loops: the matrices are too small for a product's machinery
                const double u = w * j(0, a), v = w * j(1, a);
                for (int b = 0; b <= a; ++b)
                    normal(a, b) += u * j(0, b) + v * j(1, b);
                right[a] += u * r.x() + v * r.y();
            }
            cost += w * r.squaredNorm();
        }
        normal.triangularView<Eigen::StrictlyUpper>() = normal.transpose();
        const LensNumbers prior = lens_prior();
        int at = mapping;
        const auto hold = [&](const LensNumbers& l) {
            for (const int k : lens_) {
                const double w = scale * scale / (prior[k] * prior[k]);
                normal(at, at) += w;
                right[at] -= w * l[k];
                cost += w * l[k] * l[k];
                ++at;
            }
        };
        if (turns_frame()) hold(fit_.frame_lens);
        if (turns_reference()) hold(fit_.reference_lens);
        return cost;
    }

    PairFit fit_;
    std::vector<Point> points_;
    std::vector<int> lens_; ///< the numbers that are free
};

} // namespace

std::optional<PairFit> fit_pair(const StarPair& pair, const std::vector<StarMatch>& matches, const PairFit& start,
                                const FitOptions& options) {
    return PairFitter(pair, matches, start, options.use).run(options.rounds);
}

std::vector<double> normal_residuals(const StarPair& pair, const std::vector<StarMatch>& matches,
                                     const Transform& to_frame) {
    std::vector<double> out;
    out.reserve(matches.size());
    for (const StarMatch& m : matches) {
        const Star &s = pair.of_reference(m), &t = pair.of_frame(m);
        const Point p = to_frame.map({s.x, s.y});
        const double variance = pair_variance(s, t, to_frame.at({s.x, s.y}).scale());
        const double r2 = ((t.x - p.x) * (t.x - p.x) + (t.y - p.y) * (t.y - p.y)) / variance;
        out.push_back(std::isfinite(r2) ? r2 : std::numeric_limits<double>::infinity());
    }
    return out;
}

std::size_t simplest_as_good(const std::vector<std::vector<double>>& losses, double worth) {
    const auto sum = [](const std::vector<double>& v) { return std::accumulate(v.begin(), v.end(), 0.0); };
    std::size_t best = 0;
    for (std::size_t k = 1; k < losses.size(); ++k)
        if (sum(losses[k]) < sum(losses[best])) best = k;
    constexpr double kSure = 2.5;
    for (std::size_t k = 0; k < best; ++k) {
        double gain = 0, squares = 0;
        for (std::size_t i = 0; i < losses[k].size(); ++i) {
            const double d = losses[k][i] - losses[best][i];
            gain += d, squares += d * d;
        }
        const auto n = static_cast<double>(losses[k].size());
        const double mean = gain / n, error = std::sqrt(std::max(0.0, squares / n - mean * mean) / n);
        if (mean > kSure * error && sum(losses[k]) > (1 + worth) * sum(losses[best])) continue;
        // What scatters more is told from the best with more difficulty, which is no merit.
        std::size_t chosen = k;
        for (std::size_t j = 0; j < k; ++j)
            if (sum(losses[j]) < sum(losses[chosen])) chosen = j;
        return chosen;
    }
    return best;
}

std::optional<PairFit> choose_model(const StarPair& pair, const std::vector<StarMatch>& matches,
                                    const std::vector<PairFit>& candidates) {
    constexpr std::size_t kFolds = 5, kEnough = 400;
    // The brightest say enough; those of the frame come first in its order.
    const std::vector<StarMatch> judged(
        matches.begin(), matches.begin() + static_cast<std::ptrdiff_t>(std::min(matches.size(), kEnough)));
    constexpr double kWrong = 50; // squared residuals are cut off where they say only "wrong"
    std::vector<PairFit> fits;
    std::vector<std::vector<double>> losses;
    std::vector<char> use(judged.size());
    for (const PairFit& candidate : candidates) {
        auto whole = fit_pair(pair, matches, candidate);
        if (!whole) continue;
        std::vector<double> unseen(judged.size());
        bool good = true;
        for (std::size_t fold = 0; fold < kFolds && good; ++fold) {
            for (std::size_t i = 0; i < judged.size(); ++i)
                use[i] = i % kFolds != fold;
            constexpr int kAgain = 5; // it begins near its end
            const auto part = fit_pair(pair, judged, *whole, {use, kAgain});
            good = part.has_value();
            if (!good) break;
            const std::vector<double> r2 = normal_residuals(pair, judged, part->transform());
            for (std::size_t i = 0; i < judged.size(); ++i)
                if (!use[i]) unseen[i] = std::min(r2[i], kWrong);
        }
        if (!good) continue;
        fits.push_back(*whole);
        losses.push_back(std::move(unseen));
    }
    constexpr double kWorth = 0.03;
    return fits.empty() ? std::nullopt : std::optional(fits[simplest_as_good(losses, kWorth)]);
}

} // namespace kasane
