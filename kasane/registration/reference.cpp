#include <kasane/registration/reference.hpp>

#include <kasane/image/statistics.hpp>
#include <kasane/registration/register.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <numeric>
#include <optional>
#include <set>

namespace kasane {

namespace {

constexpr double kUnknownWidth = 20; // pixels, where no star could be fitted

double width_of(const ReferenceCandidate& f) {
    return f.fwhm > 0 ? f.fwhm : kUnknownWidth;
}

/// What can be said of a frame by itself.
double promise(const ReferenceCandidate& f) {
    return static_cast<double>(f.stars->size()) / (width_of(f) * width_of(f));
}

class Ranking {
public:
    Ranking(const std::vector<ReferenceCandidate>& frames, const Workers& workers)
        : frames_(frames), workers_(workers), order_(frames.size()) {
        std::iota(order_.begin(), order_.end(), std::size_t{0});
        std::stable_sort(order_.begin(), order_.end(),
                         [&](std::size_t a, std::size_t b) { return promise(frames_[a]) > promise(frames_[b]); });
    }

    ReferenceRanking run() {
        ReferenceRanking out;
        if (frames_.empty()) return out;
        find_anchor();
        looked_at_ = sample();
        maps_.resize(looked_at_.size());
        workers_.for_each(looked_at_.size(), [&](std::size_t k) { maps_[k] = onto_anchor(looked_at_[k]); });
        for (std::size_t k = 0; k < looked_at_.size(); ++k)
            if (maps_[k]) out.best.push_back(merit(k));
        out.compared = static_cast<int>(out.best.size());
        score(out.best);
        return out;
    }

private:
    struct Placed {
        Transform to_frame;         ///< from the anchor
        double signal = 1;          ///< of its stars, against the anchor's
        double scale = 1;           ///< its pixels along one of the anchor's
        std::vector<Point> lattice; ///< places all over it, on the anchor's grid
    };

    /// A frame of another field may be the sharpest of all: the first of the most promising that most others agree
    /// with.
    void find_anchor() {
        constexpr std::size_t kTried = 5, kProbes = 12;
        anchor_ = order_[0];
        std::size_t most = 0;
        RegistrationOptions at_once;
        at_once.thorough = false;
        for (std::size_t attempt = 0; attempt < std::min(kTried, order_.size()); ++attempt) {
            const std::size_t candidate = order_[attempt];
            const std::size_t step = std::max<std::size_t>(1, frames_.size() / kProbes);
            std::size_t probes = 0, met = 0;
            for (std::size_t i = 0; i < frames_.size(); i += step, ++probes)
                met += register_stars(*frames_[candidate].stars, *frames_[i].stars, at_once).result.has_value();
            if (met > most) {
                most = met;
                anchor_ = candidate;
            }
            of_most_ = 2 * met > probes;
            if (of_most_) break;
        }
    }

    std::vector<std::size_t> sample() const {
        constexpr std::size_t kSpread = 64, kBest = 16;
        std::set<std::size_t> chosen = {anchor_};
        for (std::size_t k = 0; k < std::min(kBest, order_.size()); ++k)
            chosen.insert(order_[k]);
        for (std::size_t k = 0; k < std::min(kSpread, frames_.size()); ++k)
            chosen.insert(k * frames_.size() / std::min(kSpread, frames_.size()));
        return {chosen.begin(), chosen.end()};
    }

    std::optional<Placed> onto_anchor(std::size_t i) const {
        if (i == anchor_) return placed(i, {}, 1);
        const auto &reference = *frames_[anchor_].stars, &stars = *frames_[i].stars;
        // Where most agree, the others are worth some work; several fields are not.
        const Outcome found = register_stars(reference, stars,
                                             {.reference = {frames_[anchor_].width, frames_[anchor_].height, nullptr},
                                              .frame = {frames_[i].width, frames_[i].height, nullptr},
                                              .thorough = of_most_});
        if (!found) return std::nullopt;
        std::vector<float> ratios;
        for (const StarMatch& m : found->matches) {
            const Star &s = reference[static_cast<std::size_t>(m.reference)],
                       &q = stars[static_cast<std::size_t>(m.frame)];
            if (!s.saturated && !q.saturated && s.flux > 0 && q.flux > 0)
                ratios.push_back(static_cast<float>(q.flux / s.flux));
        }
        return placed(i, found->to_frame, ratios.empty() ? 1 : static_cast<double>(median_in_place(ratios)));
    }

    Placed placed(std::size_t i, const Transform& to_frame, double signal) const {
        constexpr int kLattice = 9;
        const ReferenceCandidate &f = frames_[i], &anchor = frames_[anchor_];
        Placed p{to_frame, signal, 1, {}};
        p.scale = std::sqrt(std::abs(to_frame.at({0.5 * (anchor.width - 1), 0.5 * (anchor.height - 1)}).determinant()));
        for (int row = 0; row < kLattice; ++row)
            for (int column = 0; column < kLattice; ++column)
                p.lattice.push_back(to_frame.unmap(
                    {(column + 0.5) / kLattice * f.width - 0.5, (row + 0.5) / kLattice * f.height - 0.5}));
        return p;
    }

    ReferenceMerit merit(std::size_t k) const {
        const ReferenceCandidate& f = frames_[looked_at_[k]];
        ReferenceMerit m;
        m.frame = looked_at_[k];
        m.stars = static_cast<int>(f.stars->size());
        m.fwhm = f.fwhm;
        m.depth = f.noise > 0 ? std::pow(maps_[k]->signal / f.noise, 2) : 0;
        m.central = sky_shown(k);
        m.scale = maps_[k]->scale;
        return m;
    }

    /// Of lattices of places on the others, those that lie on its grid.
    double sky_shown(std::size_t k) const {
        const ReferenceCandidate& f = frames_[looked_at_[k]];
        int inside = 0, all = 0;
        for (std::size_t j = 0; j < looked_at_.size(); ++j) {
            if (j == k || !maps_[j]) continue;
            for (const Point& there : maps_[j]->lattice) {
                const Point p = maps_[k]->to_frame.map(there);
                inside += p.x >= -0.5 && p.y >= -0.5 && p.x < f.width - 0.5 && p.y < f.height - 0.5;
                ++all;
            }
        }
        return all > 0 ? static_cast<double>(inside) / all : 1;
    }

    void score(std::vector<ReferenceMerit>& merits) const {
        double sharpest = std::numeric_limits<double>::infinity(), deepest = 0;
        const auto width = [&](const ReferenceMerit& m) { return width_of(frames_[m.frame]) / m.scale; };
        int most = 1;
        for (const ReferenceMerit& m : merits) {
            sharpest = std::min(sharpest, width(m));
            deepest = std::max(deepest, m.depth);
            most = std::max(most, m.stars);
        }
        for (ReferenceMerit& m : merits) {
            m.depth = deepest > 0 ? m.depth / deepest : 1;
            const double e = std::min(frames_[m.frame].eccentricity, 0.99);
            m.score = std::pow(sharpest / width(m), 2) * std::sqrt(1 - e * e) * std::sqrt(m.depth) *
                      std::sqrt(static_cast<double>(m.stars) / most) * m.central * m.central;
        }
        std::stable_sort(merits.begin(), merits.end(),
                         [](const ReferenceMerit& a, const ReferenceMerit& b) { return a.score > b.score; });
    }

    const std::vector<ReferenceCandidate>& frames_;
    const Workers& workers_;
    std::vector<std::size_t> order_; ///< most promising first
    std::size_t anchor_ = 0;
    bool of_most_ = false; ///< most others agree with the anchor
    std::vector<std::size_t> looked_at_;
    std::vector<std::optional<Placed>> maps_; ///< as looked_at_
};

} // namespace

std::string ReferenceMerit::text() const {
    return fmt::format("{}{} stars, depth {:.2f} of the best, shows {:.0f} % of the others' sky",
                       fwhm > 0 ? fmt::format("{:.2f} px, ", fwhm) : "", stars, depth, 100 * central);
}

ReferenceRanking rank_references(const std::vector<ReferenceCandidate>& frames, const Workers& workers) {
    return Ranking(frames, workers).run();
}

} // namespace kasane
