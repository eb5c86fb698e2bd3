#include <kasane/registration/growth.hpp>

#include <kasane/image/statistics.hpp>

#include <array>
#include <memory>

namespace kasane {

namespace {

/// Where a star should be, and how well that is known.
struct Prediction {
    double x = 0, y = 0;
    double variance = 0; ///< along one axis, square pixels
    double reach = 0;    ///< from the pairs it follows from, pixels of the reference
    double extent = 0;   ///< of these, root mean square about their middle
};

class Growth {
public:
    Growth(const StarPair& pair, const PairGrowthOptions& o)
        : pair_(pair), o_(o), size_(std::min(pair.reference.size(), o.most)), partner_(size_, -1),
          taken_(pair.frame.size(), -1), half_(StarExtent(pair.reference).half_diagonal()),
          spacing_(std::sqrt(StarExtent(pair.frame).area() / static_cast<double>(pair.frame.size()))) {}

    std::vector<StarMatch> run(const std::vector<StarMatch>& seed) {
        for (const StarMatch& m : seed)
            if (static_cast<std::size_t>(m.reference) < size_) join(m.reference, m.frame);
        std::size_t before = 0;
        for (int round = 0; round < o_.most_rounds; ++round) {
            if (count() < kLeast) break;
            index();
            const bool more = add() > 0;
            index();
            const bool fewer = leave() > 0;
            constexpr int kPatience = 2;
            if ((!more && !fewer) || (count() <= before && round >= kPatience)) break;
            before = count();
        }
        std::vector<StarMatch> out;
        for (std::size_t j = 0; j < taken_.size(); ++j)
            if (taken_[j] >= 0) out.push_back({taken_[j], static_cast<int>(j)});
        return out;
    }

private:
    static constexpr std::size_t kLeast = 3, kForAffine = 6, kNear = 10;

    std::size_t count() const {
        return static_cast<std::size_t>(std::count_if(partner_.begin(), partner_.end(), [](int p) { return p >= 0; }));
    }
    void join(int i, int j) {
        if (partner_[static_cast<std::size_t>(i)] >= 0 || taken_[static_cast<std::size_t>(j)] >= 0) return;
        partner_[static_cast<std::size_t>(i)] = j;
        taken_[static_cast<std::size_t>(j)] = i;
    }
    void part(std::size_t i) {
        taken_[static_cast<std::size_t>(partner_[i])] = -1;
        partner_[i] = -1;
    }

    void index() {
        paired_.clear();
        paired_stars_.clear();
        for (std::size_t i = 0; i < size_; ++i)
            if (partner_[i] >= 0) {
                paired_.push_back(static_cast<int>(i));
                paired_stars_.push_back(pair_.reference[i]);
            }
        index_ = std::make_unique<StarIndex>(paired_stars_);
    }

    /// By the pairs nearest to star `i`, itself left out; of no use (reach < 0) where they are too few or stand in a
    /// line.
    Prediction predict(std::size_t i) const {
        const Star& s = pair_.reference[i];
        const std::vector<int> near = index_->nearest_many(s.x, s.y, static_cast<int>(kNear) + 1);
        std::array<std::size_t, kNear + 1> from{};
        std::size_t n = 0;
        for (const int k : near) {
            const auto at = static_cast<std::size_t>(paired_[static_cast<std::size_t>(k)]);
            if (at != i && n < kNear) from[n++] = at;
        }
        Prediction none;
        none.reach = -1;
        if (n < kLeast - (partner_[i] >= 0 ? 1 : 0) || n < 2) return none;
        double mx = 0, my = 0, mu = 0, mv = 0, sum = 0;
        std::array<double, kNear + 1> weight{};
        for (std::size_t k = 0; k < n; ++k) {
            const Star &p = pair_.reference[from[k]], &q = frame_of(from[k]);
            weight[k] = 1 / (position_variance(p) + position_variance(q));
            sum += weight[k];
            mx += weight[k] * p.x, my += weight[k] * p.y, mu += weight[k] * q.x, mv += weight[k] * q.y;
        }
        mx /= sum, my /= sum, mu /= sum, mv /= sum;
        const double dx = s.x - mx, dy = s.y - my;
        double xx = 0, xy = 0, yy = 0, xu = 0, yu = 0, xv = 0, yv = 0;
        for (std::size_t k = 0; k < n; ++k) {
            const Star &p = pair_.reference[from[k]], &q = frame_of(from[k]);
            const double w = weight[k], x = p.x - mx, y = p.y - my, u = q.x - mu, v = q.y - mv;
            xx += w * x * x, xy += w * x * y, yy += w * y * y;
            xu += w * x * u, yu += w * y * u, xv += w * x * v, yv += w * y * v;
        }
        Prediction out;
        double lever = 0; // variance that the linear part adds
        const double det = xx * yy - xy * xy;
        if (n >= kForAffine && det > 1e-3 * (xx + yy) * (xx + yy)) {
            const double a = (xu * yy - yu * xy) / det, b = (yu * xx - xu * xy) / det, d = (xv * yy - yv * xy) / det,
                         e = (yv * xx - xv * xy) / det;
            out.x = mu + a * dx + b * dy, out.y = mv + d * dx + e * dy;
            lever = (dx * dx * yy - 2 * dx * dy * xy + dy * dy * xx) / det;
        } else {
            const double straight = std::hypot(xu + yv, xv - yu), mirror = std::hypot(xu - yv, xv + yu);
            const double m = mirror > straight ? -1 : 1;
            const double c = (xu + m * yv) / (xx + yy), t = (xv - m * yu) / (xx + yy);
            out.x = mu + c * dx - m * t * dy, out.y = mv + t * dx + m * c * dy;
            lever = (dx * dx + dy * dy) / (xx + yy);
        }
        out.variance = 1 / sum + lever;
        out.reach = std::hypot(dx, dy);
        out.extent = std::sqrt((xx + yy) / sum);
        return out;
    }

    const Star& frame_of(std::size_t i) const { return pair_.frame[static_cast<std::size_t>(partner_[i])]; }

    /// How far from its prediction a star may be.
    double tolerance(const Prediction& p, const Star& here, double variance_there) const {
        constexpr double kSigmas = 3.5;
        const double bend = 0.5 * o_.bend / half_ * p.reach * p.reach; // what an affine map cannot follow
        const double noise = kSigmas * std::sqrt(p.variance + position_variance(here) + variance_there);
        constexpr double kRoom = 0.12; // of the stars' distances
        return noise + std::min(bend, std::max(o_.radius, kRoom * spacing_));
    }

    std::size_t add() {
        const double usual = usual_variance();
        std::vector<std::pair<double, StarMatch>> found;
        for (std::size_t i = 0; i < size_; ++i) {
            if (partner_[i] >= 0) continue;
            const Prediction p = predict(i);
            // One step outward at a time: what is far beyond the pairs waits for those between.
            constexpr double kStep = 2.5;
            if (p.reach < 0 || p.reach > kStep * p.extent) continue;
            const double most = std::max(o_.radius, 0.35 * spacing_);
            const double r = std::min(most, std::max(o_.radius * 0.3, tolerance(p, pair_.reference[i], usual)));
            const int j = pair_.index.nearest(p.x, p.y, r);
            if (j < 0 || taken_[static_cast<std::size_t>(j)] >= 0) continue;
            const Star& q = pair_.frame[static_cast<std::size_t>(j)];
            found.push_back({std::hypot(q.x - p.x, q.y - p.y) / r, {static_cast<int>(i), j}});
        }
        std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        std::size_t added = 0;
        for (const auto& [d, m] : found) {
            if (taken_[static_cast<std::size_t>(m.frame)] >= 0) continue;
            join(m.reference, m.frame);
            ++added;
        }
        return added;
    }

    std::size_t leave() {
        std::vector<std::size_t> gone;
        for (const int k : paired_) {
            const auto i = static_cast<std::size_t>(k);
            const Prediction p = predict(i);
            if (p.reach < 0) continue;
            const Star& q = frame_of(i);
            const double r = std::max(0.3 * o_.radius, 1.3 * tolerance(p, pair_.reference[i], position_variance(q)));
            if (std::hypot(q.x - p.x, q.y - p.y) > r) gone.push_back(i);
        }
        for (const std::size_t i : gone)
            part(i);
        return gone.size();
    }

    double usual_variance() const {
        std::vector<float> all;
        for (const int k : paired_)
            all.push_back(static_cast<float>(position_variance(frame_of(static_cast<std::size_t>(k)))));
        return median_in_place(all);
    }

    const StarPair& pair_;
    const PairGrowthOptions& o_;
    std::size_t size_;
    std::vector<int> partner_, taken_;
    double half_, spacing_;
    std::vector<int> paired_;
    std::vector<Star> paired_stars_;
    std::unique_ptr<StarIndex> index_;
};

} // namespace

std::vector<StarMatch> grow(const StarPair& pair, const std::vector<StarMatch>& seed,
                            const PairGrowthOptions& options) {
    return Growth(pair, options).run(seed);
}

} // namespace kasane
