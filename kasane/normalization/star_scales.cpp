#include <kasane/normalization/star_scales.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>
#include <unordered_map>

namespace kasane {

namespace {

/// One star in one frame.
struct Sighting {
    std::size_t frame = 0;
    double brightness = 0; ///< logarithm of its flux, spread over the pixels that it has on the canvas
    double variance = 0;   ///< of it, by the flux's noise alone
    double snr = 0;
};

struct CommonStar {
    Point at; ///< on the canvas
    std::vector<Sighting> seen;
    bool saturated = false; ///< in some frame
};

/// The stars of all frames by their place on the canvas, each found again within a radius.
class Catalogue {
public:
    explicit Catalogue(double radius) : radius_(radius) {}

    CommonStar& at(Point p) {
        const auto [i, j] = cell_of(p);
        std::size_t best = stars_.size();
        double nearest = radius_ * radius_;
        for (int y = j - 1; y <= j + 1; ++y)
            for (int x = i - 1; x <= i + 1; ++x)
                if (const auto it = cells_.find(key(x, y)); it != cells_.end())
                    for (const std::size_t k : it->second) {
                        const double d2 = std::pow(stars_[k].at.x - p.x, 2) + std::pow(stars_[k].at.y - p.y, 2);
                        if (d2 <= nearest) nearest = d2, best = k;
                    }
        if (best < stars_.size()) return stars_[best];
        cells_[key(i, j)].push_back(stars_.size());
        stars_.push_back({p, {}, false});
        return stars_.back();
    }
    std::vector<CommonStar>& stars() { return stars_; }

private:
    std::pair<int, int> cell_of(Point p) const {
        return {static_cast<int>(std::floor(p.x / radius_)), static_cast<int>(std::floor(p.y / radius_))};
    }
    static std::uint64_t key(int i, int j) {
        return static_cast<std::uint64_t>(static_cast<std::uint32_t>(i)) << 32 | static_cast<std::uint32_t>(j);
    }
    double radius_;
    std::vector<CommonStar> stars_;
    std::unordered_map<std::uint64_t, std::vector<std::size_t>> cells_;
};

/// Whether a streak runs through the aperture of a star.
bool under_streak(const LevelInput& frame, const Star& s) {
    if (!frame.streaks) return false;
    constexpr double kWidth = 6; // pixels to either side that a streak reaches at least
    const double aperture = 2 * std::max(1.0, frame.measures->fwhm);
    return std::any_of(frame.streaks->begin(), frame.streaks->end(), [&](const Streak& k) {
        const double dx = k.x1 - k.x0, dy = k.y1 - k.y0, length2 = std::max(1e-9, dx * dx + dy * dy);
        const double along = std::clamp(((s.x - k.x0) * dx + (s.y - k.y0) * dy) / length2, 0.0, 1.0);
        return std::hypot(s.x - k.x0 - along * dx, s.y - k.y0 - along * dy) < aperture + std::max(kWidth, k.half_width);
    });
}

/// A frame shows a place if it lies well inside.
bool shows(const LevelInput& frame, Point canvas) {
    const auto [x, y] = frame.to_frame.map(canvas);
    constexpr double kEdge = 8;
    return x > kEdge && y > kEdge && x < frame.width - kEdge && y < frame.height - kEdge;
}

/// Relative errors of a flux beside its noise: flat field, profile. First guess, and what is learnt from the stars is
/// held to.
constexpr double kFloor = 0.01, kLeastFloor = 0.001, kMostFloor = 0.05;

/// Stars that can tell of the frames, those of most sightings first.
std::vector<CommonStar> common_stars(const std::vector<LevelInput>& frames, const ScaleOptions& o) {
    std::vector<std::size_t> order(frames.size());
    std::iota(order.begin(), order.end(), 0u);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return frames[a].measures->stars.size() > frames[b].measures->stars.size();
    });
    Catalogue catalogue(o.match_radius);
    for (const std::size_t f : order)
        for (const Star& s : frames[f].measures->stars) {
            if (!(s.flux > 0) || !(s.flux_sigma > 0)) continue;
            const Point there = frames[f].to_frame.unmap({s.x, s.y});
            if (!std::isfinite(there.x)) continue;
            CommonStar& c = catalogue.at(there);
            c.saturated = c.saturated || s.saturated;
            if (s.saturated || under_streak(frames[f], s)) continue;
            if (!c.seen.empty() && c.seen.back().frame == f) continue; // a double star: the brighter one was first
            const double area = std::abs(frames[f].to_frame.at(there).determinant());
            if (!(area > 0)) continue;
            c.seen.push_back({f, std::log(s.flux / area), std::pow(s.flux_sigma / s.flux, 2), s.flux / s.flux_sigma});
        }
    std::vector<CommonStar> out;
    for (CommonStar& c : catalogue.stars()) {
        if (c.saturated || c.seen.size() < 2) continue;
        std::vector<float> snr;
        for (const Sighting& s : c.seen)
            snr.push_back(static_cast<float>(s.snr));
        if (median_in_place(snr) >= o.least_snr) out.push_back(std::move(c));
    }
    const auto brightness = [](const CommonStar& c) { return c.seen.front().brightness; };
    std::stable_sort(out.begin(), out.end(), [&](const CommonStar& a, const CommonStar& b) {
        return a.seen.size() != b.seen.size() ? a.seen.size() > b.seen.size() : brightness(a) > brightness(b);
    });
    // Every frame keeps as many as are wanted, whatever the others have more of.
    std::vector<int> kept(frames.size());
    std::erase_if(out, [&](const CommonStar& c) {
        const bool needed =
            std::any_of(c.seen.begin(), c.seen.end(), [&](const Sighting& s) { return kept[s.frame] < o.most_stars; });
        if (!needed) return true;
        constexpr double kShare = 0.6; // of the frames that should show it
        std::size_t should = 0;
        for (const LevelInput& f : frames)
            should += shows(f, c.at);
        if (static_cast<double>(c.seen.size()) < kShare * static_cast<double>(should)) return true;
        for (const Sighting& s : c.seen)
            ++kept[s.frame];
        return false;
    });
    return out;
}

/// Magnitudes of stars and scales of frames, as logarithms, solved together.
class ScaleSolution {
public:
    ScaleSolution(std::size_t frames, std::vector<CommonStar> stars, const Canvas& canvas)
        : scale_(frames), stars_(std::move(stars)), centre_(canvas.centre()),
          half_(std::max({1.0, centre_.x, centre_.y})), by_frame_(frames), tilt_(frames) {
        for (std::size_t star = 0; star < stars_.size(); ++star) {
            share_.emplace_back(stars_[star].seen.size(), 1.0);
            for (std::size_t i = 0; i < stars_[star].seen.size(); ++i)
                by_frame_[stars_[star].seen[i].frame].push_back({star, i});
        }
    }

    /// From the lead on, in waves, the frames that share enough with what is known already; then all together. Frames
    /// that share too little stay unknown.
    void solve(std::size_t lead, int least) {
        magnitude_.assign(stars_.size(), std::nan(""));
        known_.assign(scale_.size(), false);
        admit(lead);
        for (int most = least; most >= least;) {
            std::vector<int> shares(scale_.size());
            most = 0;
            for (std::size_t f = 0; f < scale_.size(); ++f)
                if (!known_[f]) most = std::max(most, shares[f] = shared(f));
            for (std::size_t f = 0; f < scale_.size(); ++f) // those that share most lead the others
                if (!known_[f] && shares[f] >= std::max(least, most / 2)) admit(f);
        }
        constexpr int kRounds = 12, kLearnt = 4;
        for (int round = 0; round < kRounds; ++round) {
            refine();
            if (round == kLearnt) learn_floor();
            weigh(round == 0);
        }
        tilt();
    }

    bool known(std::size_t f) const { return known_[f]; }
    /// What a frame's logarithmic fluxes lie above the level.
    double brighter(std::size_t f) const { return scale_[f]; }
    Point tilt_of(std::size_t f) const { return {tilt_[f].x / half_, tilt_[f].y / half_}; }

    /// Stars that count, and the error that they leave.
    StarScale account(std::size_t f) const {
        StarScale s;
        double weights = 0, chi2 = 0, counted = 0;
        for (const auto& [star, i] : by_frame_[f]) {
            const double w = share_[star][i];
            if (!(w > kGivenUp)) continue;
            ++s.stars;
            const double variance = variance_of(star, i), r = residual(star, i);
            weights += w / variance;
            chi2 += w * r * r / variance;
            counted += w;
        }
        const double more = counted > 1 ? std::max(1.0, chi2 / counted) : 1;
        s.error = weights > 0 ? std::sqrt(more / weights) : 0;
        return s;
    }

private:
    static constexpr double kGivenUp = 0.01; // weight below which a star does not count
    struct Place {
        std::size_t star, sighting;
    };

    double variance_of(std::size_t star, std::size_t i) const {
        return stars_[star].seen[i].variance + floor_ * floor_;
    }
    /// What scatter is left of the stars whose noise hardly counts.
    void learn_floor() {
        std::vector<float> squares;
        constexpr double kHardly = 0.5 * kFloor;
        constexpr std::size_t kEnough = 30;
        for (std::size_t star = 0; star < stars_.size(); ++star)
            for (std::size_t i = 0; i < stars_[star].seen.size(); ++i) {
                const Sighting& s = stars_[star].seen[i];
                if (!known_[s.frame] || s.variance > kHardly * kHardly || stars_[star].seen.size() < 3) continue;
                const auto n = static_cast<double>(stars_[star].seen.size()); // a star's own magnitude takes its part
                squares.push_back(static_cast<float>(std::max(0.0, std::pow(residual(star, i), 2) * n / (n - 1) -
                                                                       std::pow(1 / kSigmaPerMad, 2) * s.variance)));
            }
        if (squares.size() < kEnough) return;
        floor_ = std::clamp(kSigmaPerMad * std::sqrt(static_cast<double>(median_in_place(squares))), kLeastFloor,
                            kMostFloor);
    }

    double residual(std::size_t star, std::size_t i) const {
        const Sighting& s = stars_[star].seen[i];
        return s.brightness - scale_[s.frame] - magnitude_[star] - tilted(s.frame, stars_[star].at);
    }
    double tilted(std::size_t f, Point at) const {
        return (tilt_[f].x * (at.x - centre_.x) + tilt_[f].y * (at.y - centre_.y)) / half_;
    }
    int shared(std::size_t f) const {
        return static_cast<int>(std::count_if(by_frame_[f].begin(), by_frame_[f].end(),
                                              [&](const Place& p) { return !std::isnan(magnitude_[p.star]); }));
    }
    /// Its scale from the stars that are known, robustly; then all its stars are known.
    void admit(std::size_t f) {
        std::vector<float> differences;
        for (const auto& [star, i] : by_frame_[f])
            if (!std::isnan(magnitude_[star]))
                differences.push_back(static_cast<float>(stars_[star].seen[i].brightness - magnitude_[star]));
        scale_[f] = differences.empty() ? 0 : median_in_place(differences);
        known_[f] = true;
        for (const auto& [star, i] : by_frame_[f])
            if (std::isnan(magnitude_[star])) magnitude_[star] = stars_[star].seen[i].brightness - scale_[f];
    }
    /// Alternating least squares; converges the faster the more stars frames share.
    void refine() {
        constexpr int kSteps = 40;
        constexpr double kSettled = 1e-7;
        for (int step = 0; step < kSteps; ++step) {
            for (std::size_t star = 0; star < stars_.size(); ++star) {
                double sum = 0, weights = 0;
                for (std::size_t i = 0; i < stars_[star].seen.size(); ++i) {
                    const Sighting& s = stars_[star].seen[i];
                    if (!known_[s.frame]) continue;
                    const double w = share_[star][i] / variance_of(star, i);
                    sum += w * (s.brightness - scale_[s.frame] - tilted(s.frame, stars_[star].at));
                    weights += w;
                }
                if (weights > 0) magnitude_[star] = sum / weights;
            }
            double moved = 0;
            for (std::size_t f = 0; f < scale_.size(); ++f) {
                if (!known_[f]) continue;
                double sum = 0, weights = 0;
                for (const auto& [star, i] : by_frame_[f]) {
                    const double w = share_[star][i] / variance_of(star, i);
                    sum += w * (residual(star, i) + scale_[f]);
                    weights += w;
                }
                if (!(weights > 0)) continue;
                moved = std::max(moved, std::abs(sum / weights - scale_[f]));
                scale_[f] = sum / weights;
            }
            if (moved < kSettled) break;
        }
    }
    /// `first`: magnitudes still carry what outliers did to them; they are weighed softly.
    void weigh(bool first) {
        for (std::size_t star = 0; star < stars_.size(); ++star)
            for (std::size_t i = 0; i < stars_[star].seen.size(); ++i) {
                if (!known_[stars_[star].seen[i].frame]) continue;
                const double r = residual(star, i) / std::sqrt(variance_of(star, i));
                share_[star][i] = first ? huber_weight(r, 1.5) : bisquare_weight(std::abs(r) / kBisquareTuning, 1e-6);
            }
    }
    /// A slope of the scale over the field, where the stars show it clearly.
    void tilt() {
        constexpr std::size_t kLeast = 20; // stars
        constexpr double kClear = 4;       // errors
        constexpr int kRounds = 3;
        for (int round = 0; round < kRounds; ++round) {
            std::vector<Point> found(tilt_.size());
            Point mean{0, 0};
            double count = 0;
            for (std::size_t f = 0; f < tilt_.size(); ++f) {
                if (!known_[f] || by_frame_[f].size() < kLeast) continue;
                std::vector<Equation<3>> equations;
                for (const auto& [star, i] : by_frame_[f]) {
                    const Point at = stars_[star].at;
                    equations.push_back({{1, (at.x - centre_.x) / half_, (at.y - centre_.y) / half_},
                                         residual(star, i) + tilted(f, at),
                                         share_[star][i] / variance_of(star, i)});
                }
                const Eigen::Vector3d plane = least_squares(equations);
                if (!plane.allFinite()) continue;
                double xx = 0, yy = 0; // of the normal equations, the correlation of both left aside
                for (const Equation<3>& e : equations)
                    xx += e.weight * e.row[1] * e.row[1], yy += e.weight * e.row[2] * e.row[2];
                if (plane[1] * plane[1] * xx + plane[2] * plane[2] * yy > kClear * kClear)
                    found[f] = {plane[1], plane[2]};
                mean.x += found[f].x, mean.y += found[f].y;
                ++count;
            }
            // What all frames share is the stars' own, not theirs.
            for (std::size_t f = 0; f < tilt_.size(); ++f)
                if (found[f].x != 0 || found[f].y != 0)
                    tilt_[f] = {found[f].x - mean.x / count, found[f].y - mean.y / count};
                else
                    tilt_[f] = {0, 0};
            if (std::all_of(tilt_.begin(), tilt_.end(), [](Point t) { return t.x == 0 && t.y == 0; })) return;
            refine();
            weigh(false);
        }
    }

    double floor_ = kFloor;
    std::vector<double> scale_, magnitude_;
    std::vector<CommonStar> stars_;
    Point centre_;
    double half_;
    std::vector<std::vector<Place>> by_frame_;
    std::vector<std::vector<double>> share_; ///< of each sighting, by star
    std::vector<bool> known_;
    std::vector<Point> tilt_; ///< from the centre to half the longer side
};

/// Stars down to a signal to noise, and at least so many of them.
std::vector<StarScale> scales_with(const std::vector<LevelInput>& frames, const Canvas& canvas, std::size_t lead,
                                   const ScaleOptions& o) {
    ScaleSolution solution(frames.size(), common_stars(frames, o), canvas);
    solution.solve(lead, o.least_stars);
    std::vector<StarScale> out(frames.size());
    for (std::size_t f = 0; f < frames.size(); ++f) {
        if (!solution.known(f)) continue;
        const StarScale told = solution.account(f);
        if (told.stars < o.least_stars && f != lead) continue;
        out[f] = told;
        out[f].scale = std::exp(solution.brighter(lead) - solution.brighter(f));
        const Point tilt = solution.tilt_of(f), none = solution.tilt_of(lead);
        out[f].slope_x = none.x - tilt.x, out[f].slope_y = none.y - tilt.y;
    }
    return out;
}

} // namespace

std::string ScaleOptions::check() const {
    if (least_stars < 1) return fmt::format("a scale needs at least one star, not {}", least_stars);
    if (most_stars < least_stars)
        return fmt::format("at most {} stars for a scale are fewer than the least, {}", most_stars, least_stars);
    if (!(least_snr > 0)) return fmt::format("the least signal to noise of a star is above 0, not {:g}", least_snr);
    if (!(match_radius > 0)) return fmt::format("stars match within more than 0 pixels, not {:g}", match_radius);
    return {};
}

std::vector<StarScale> fit_star_scales(const std::vector<LevelInput>& frames, const Canvas& canvas, std::size_t lead,
                                       const ScaleOptions& options) {
    require_sense(options);
    if (frames.empty()) return {};
    std::vector<StarScale> out = scales_with(frames, canvas, lead, options);
    const auto unknown = [&](std::size_t f) { return f != lead && out[f].stars == 0; };
    bool some = false;
    for (std::size_t f = 0; f < frames.size(); ++f)
        some = some || unknown(f);
    if (some) { // with weaker stars, and fewer of them
        ScaleOptions weaker = options;
        weaker.least_stars = std::min(3, options.least_stars);
        weaker.least_snr = 0.4 * options.least_snr;
        const std::vector<StarScale> more = scales_with(frames, canvas, lead, weaker);
        for (std::size_t f = 0; f < frames.size(); ++f)
            if (unknown(f)) out[f] = more[f];
    }
    for (std::size_t f = 0; f < frames.size(); ++f)
        if (unknown(f) && frames[lead].seconds > 0 && frames[f].seconds > 0)
            out[f].scale = frames[lead].seconds / frames[f].seconds;
    return out;
}

double common_scale(const std::vector<double>& scales, const std::vector<double>& informations) {
    constexpr double kOfTheBest = 0.5;
    const double most = informations.empty() ? 0 : *std::max_element(informations.begin(), informations.end());
    double sum = 0, n = 0;
    for (std::size_t k = 0; k < scales.size(); ++k)
        if (informations[k] > 0 && informations[k] >= kOfTheBest * most) sum += std::log(scales[k]), ++n;
    return n > 0 ? std::exp(sum / n) : 1;
}

StarScale fit_star_scale(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                         const ScaleOptions& options) {
    return fit_star_scales({reference, frame}, canvas, 0, options)[1];
}

} // namespace kasane
