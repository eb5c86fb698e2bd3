#include <kasane/normalization/levels.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/normalization/fixed_point.hpp>
#include <kasane/normalization/sky_samples.hpp>
#include <kasane/registration/panels.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <numeric>

namespace kasane {

namespace {

SmoothMap combined(const std::vector<SmoothMap>& maps, const std::vector<double>& shares) {
    SmoothMap sum;
    for (std::size_t k = 0; k < maps.size(); ++k) {
        const SmoothMap& m = maps[k];
        sum.value += shares[k] * m.value;
        sum.slope_x += shares[k] * m.slope_x;
        sum.slope_y += shares[k] * m.slope_y;
        if (m.lattice.empty() || shares[k] == 0) continue;
        if (sum.lattice.empty()) {
            sum.lattice = m.lattice;
            std::fill(sum.lattice.coefficients.begin(), sum.lattice.coefficients.end(), 0.0f);
        }
        for (std::size_t i = 0; i < sum.lattice.coefficients.size(); ++i)
            sum.lattice.coefficients[i] += static_cast<float>(shares[k]) * m.lattice.coefficients[i];
    }
    return sum;
}

/// The sky of all frames on a grid of places on the canvas, solved together.
class SkySolution {
public:
    SkySolution(const std::vector<LevelInput>& frames, const Canvas& canvas, const Workers& workers,
                const LevelOptions& options, const std::vector<StarScale>& scales)
        : frames_(frames), canvas_(canvas), workers_(workers), o_(options), offsets_(frames.size()),
          smoothness_(frames.size()), weights_(frames.size()),
          spacing_(std::max(8, frames.front().measures->mesh.cell)) {
        find_panels();
        lay_out();
        values_ = look_at_sky(frames, scales, places_, canvas, options.model >= LevelModel::local, workers);
        meet_ = panels_meet();
        for (std::size_t f = 0; f < frames.size(); ++f)
            weights_[f] = 1 / std::pow(std::max(1e-9, scales[f].scale * frames[f].measures->noise), 2);
        begin(scales);
    }

    /// Several fields that meet.
    bool mosaic() const { return panels_ > 1 && meet_; }

    void solve() {
        // A frame that shares no place with others has nothing to be told by.
        settle(LevelModel::offset, 30);
        if (o_.model >= LevelModel::planes) settle(LevelModel::planes, 20);
        if (mosaic()) {
            join_panels();
            find_sky();
        }
        if (o_.model < LevelModel::local) return;
        // Twice: what a place is worth shows in what smooth maps leave there.
        const SmoothFit fit(canvas_, spacing_);
        for (const int rounds : {3, 16}) {
            workers_.for_each(frames_.size(), [&](std::size_t f) { smoothness_[f] = fit.choose(differences(f)); });
            settle(LevelModel::local, rounds);
            if (rounds == 3) weigh_places();
        }
    }

    /// What is to be added to each frame, so that all show the sky of the shares given; of a mosaic, such that it does
    /// not slope: a tilt that all frames have would add up from field to field.
    std::vector<SmoothMap> offsets(const std::vector<double>& shares) const {
        const SmoothMap level = mosaic() ? common_tilt() : combined(offsets_, shares);
        std::vector<SmoothMap> out(offsets_.size());
        for (std::size_t f = 0; f < out.size(); ++f)
            out[f] = combined({offsets_[f], level}, {1, -1});
        return out;
    }

    /// How the sky in common slopes from edge to edge once `level` is taken off.
    Point common_slope(const SmoothMap& level) const {
        std::vector<LevelSample> seen;
        const LevelMap map{canvas_.centre(), {1, 0, 0, {}}, level};
        for (std::size_t k = 0; k < places_.size(); ++k)
            if (std::isfinite(sky_[k]))
                seen.push_back({places_[k].x, places_[k].y, sky_[k] - map.offset_at(places_[k])});
        const SmoothMap plane = fit_plane(seen, canvas_);
        return {plane.slope_x * canvas_.width, plane.slope_y * canvas_.height};
    }
    /// Of a mosaic: the slope of the sky in common, at the height that the frames' own backgrounds have on the mean.
    SmoothMap common_tilt() const {
        const std::vector<LevelMap> maps = maps_of(offsets_);
        std::vector<LevelSample> seen;
        double added = 0, count = 0, x = 0, y = 0;
        for (std::size_t k = 0; k < places_.size(); ++k) {
            if (!std::isfinite(sky_[k])) continue;
            seen.push_back({places_[k].x, places_[k].y, sky_[k]});
            for (std::size_t f = 0; f < frames_.size(); ++f)
                if (std::isfinite(values_[f][k])) {
                    added += maps[f].offset_at(places_[k]), ++count;
                    x += places_[k].x, y += places_[k].y;
                }
        }
        if (count == 0) return {};
        SmoothMap plane = fit_plane(seen, canvas_);
        if (o_.model < LevelModel::planes) plane.slope_x = plane.slope_y = 0;
        const Point c = canvas_.centre();
        plane.value = added / count - plane.slope_x * (x / count - c.x) - plane.slope_y * (y / count - c.y);
        return plane;
    }

    /// Share of the places that a frame shows.
    double coverage(std::size_t f) const {
        const auto n = std::count_if(values_[f].begin(), values_[f].end(), [](float v) { return std::isfinite(v); });
        return places_.empty() ? 0 : static_cast<double>(n) / static_cast<double>(places_.size());
    }

    /// How the sky that a frame sees slopes from edge to edge, in x and y.
    Point slope(std::size_t f) const {
        std::vector<LevelSample> seen;
        for (std::size_t k = 0; k < places_.size(); ++k)
            if (std::isfinite(values_[f][k])) seen.push_back({places_[k].x, places_[k].y, values_[f][k]});
        const SmoothMap plane = fit_plane(seen, canvas_);
        return {plane.slope_x * canvas_.width, plane.slope_y * canvas_.height};
    }

    /// Median of the sky at the level of the shares given.
    double background(const std::vector<SmoothMap>& offsets, const std::vector<double>& shares) const {
        std::vector<float> all;
        const Point c = canvas_.centre();
        for (std::size_t k = 0; k < places_.size(); ++k) {
            double sum = 0, weights = 0;
            for (std::size_t f = 0; f < frames_.size(); ++f) {
                if (!std::isfinite(values_[f][k]) || shares[f] <= 0) continue;
                sum += shares[f] * (values_[f][k] + LevelMap{c, {1, 0, 0, {}}, offsets[f]}.offset_at(places_[k]));
                weights += shares[f];
            }
            if (weights > 0) all.push_back(static_cast<float>(sum / weights));
        }
        if (!all.empty()) return median_in_place(all);
        double sum = 0; // frames too small for a place
        for (std::size_t f = 0; f < frames_.size(); ++f)
            sum += shares[f] * (backgrounds_[f] + offsets[f].value);
        return sum;
    }

private:
    std::vector<LevelMap> maps_of(const std::vector<SmoothMap>& offsets) const {
        std::vector<LevelMap> out;
        for (const SmoothMap& m : offsets)
            out.push_back({canvas_.centre(), {1, 0, 0, {}}, m});
        return out;
    }

    void find_panels() {
        std::vector<PanelFrame> placed;
        for (const LevelInput& f : frames_)
            placed.push_back({f.to_frame, f.width, f.height});
        panel_ = panels_of(placed);
        panels_ = count_panels(panel_);
    }

    bool panels_meet() const {
        if (panels_ < 2) return false;
        std::vector<int> shown(places_.size(), -1);
        for (std::size_t f = 0; f < frames_.size(); ++f)
            for (std::size_t k = 0; k < places_.size(); ++k) {
                if (!std::isfinite(values_[f][k])) continue;
                if (shown[k] >= 0 && shown[k] != panel_[f]) return true;
                shown[k] = panel_[f];
            }
        return false;
    }

    /// Offset and tilt of every panel, solved together from where panels overlap: frames that learn of each other only
    /// through the sky in common would take very many rounds to carry a difference across a mosaic.
    void join_panels() {
        const auto n = static_cast<std::size_t>(panels_), places = places_.size();
        const bool tilts = o_.model >= LevelModel::planes;
        std::vector<std::vector<double>> sky(n, std::vector<double>(places, 0)), weight = sky;
        const std::vector<LevelMap> maps = maps_of(offsets_);
        for (std::size_t f = 0; f < frames_.size(); ++f)
            for (std::size_t k = 0; k < places; ++k)
                if (std::isfinite(values_[f][k])) {
                    const auto p = static_cast<std::size_t>(panel_[f]);
                    sky[p][k] += weights_[f] * (values_[f][k] + maps[f].offset_at(places_[k]));
                    weight[p][k] += weights_[f];
                }
        std::vector<Point> middle(n, {0, 0});
        std::vector<double> count(n, 0);
        for (std::size_t p = 0; p < n; ++p)
            for (std::size_t k = 0; k < places; ++k)
                if (weight[p][k] > 0) {
                    sky[p][k] /= weight[p][k];
                    middle[p].x += places_[k].x, middle[p].y += places_[k].y, ++count[p];
                }
        for (std::size_t p = 0; p < n; ++p)
            if (count[p] > 0) middle[p].x /= count[p], middle[p].y /= count[p];
        const double unit = std::max(canvas_.width, canvas_.height);
        constexpr int kEach = 3; // unknowns of a panel
        const int unknowns = kEach * panels_;
        Eigen::VectorXd found = Eigen::VectorXd::Zero(unknowns);
        const auto row_of = [&](std::size_t p, std::size_t k) {
            const double tilt = tilts ? 1 / unit : 0;
            return Eigen::Vector3d(1, tilt * (places_[k].x - middle[p].x), tilt * (places_[k].y - middle[p].y));
        };
        const auto value_of = [&](std::size_t p, std::size_t k) {
            const Eigen::Vector3d its = found.segment<kEach>(static_cast<Eigen::Index>(p) * kEach);
            return row_of(p, k).dot(its);
        };
        struct Meeting {
            std::size_t p, q, k;
            double difference, weight;
        };
        std::vector<Meeting> meetings;
        for (std::size_t k = 0; k < places; ++k)
            for (std::size_t p = 0; p < n; ++p)
                for (std::size_t q = p + 1; q < n; ++q)
                    if (weight[p][k] > 0 && weight[q][k] > 0)
                        meetings.push_back({p, q, k, sky[q][k] - sky[p][k], 1 / (1 / weight[p][k] + 1 / weight[q][k])});
        if (meetings.empty()) return;
        constexpr int kRounds = 6;
        std::vector<double> share(meetings.size(), 1);
        for (int round = 0; round < kRounds; ++round) {
            Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(unknowns, unknowns);
            Eigen::VectorXd right = Eigen::VectorXd::Zero(unknowns);
            double total = 0;
            for (std::size_t i = 0; i < meetings.size(); ++i) {
                const Meeting& m = meetings[i];
                const double w = share[i] * m.weight;
                total += w;
                const Eigen::Vector3d a = row_of(m.p, m.k), b = row_of(m.q, m.k);
                const auto ip = static_cast<Eigen::Index>(m.p) * kEach, iq = static_cast<Eigen::Index>(m.q) * kEach;
                normal.block<kEach, kEach>(ip, ip) += w * a * a.transpose();
                normal.block<kEach, kEach>(iq, iq) += w * b * b.transpose();
                normal.block<kEach, kEach>(ip, iq) -= w * a * b.transpose();
                normal.block<kEach, kEach>(iq, ip) -= w * b * a.transpose();
                right.segment<kEach>(ip) += w * m.difference * a;
                right.segment<kEach>(iq) -= w * m.difference * b;
            }
            constexpr double kHeld = 1e-6; // what the overlaps leave open stays as it is
            normal.diagonal().array() += kHeld * total / panels_;
            found = normal.ldlt().solve(right);
            if (!found.allFinite()) return;
            std::vector<float> left;
            for (const Meeting& m : meetings)
                left.push_back(static_cast<float>(std::sqrt(m.weight) *
                                                  std::abs(value_of(m.p, m.k) - value_of(m.q, m.k) - m.difference)));
            std::vector<float> sorted = left;
            const double spread = std::max(1e-9, static_cast<double>(median_in_place(sorted)) * kSigmaPerMad);
            for (std::size_t i = 0; i < left.size(); ++i)
                share[i] = bisquare_weight(static_cast<double>(left[i]) / (kBisquareTuning * spread), 1e-6);
        }
        const Point c = canvas_.centre();
        for (std::size_t f = 0; f < frames_.size(); ++f) {
            const auto p = static_cast<std::size_t>(panel_[f]);
            const Eigen::Vector3d g = found.segment<kEach>(static_cast<Eigen::Index>(p) * kEach);
            offsets_[f].value += g[0];
            if (!tilts) continue;
            offsets_[f].slope_x += g[1] / unit, offsets_[f].slope_y += g[2] / unit;
            offsets_[f].value += (g[1] * (c.x - middle[p].x) + g[2] * (c.y - middle[p].y)) / unit;
        }
    }

    /// With their backgrounds on one level. A frame that shares no place with others stays so.
    void begin(const std::vector<StarScale>& scales) {
        double sum = 0, weights = 0;
        for (std::size_t f = 0; f < frames_.size(); ++f) {
            backgrounds_.push_back(scales[f].scale * frames_[f].measures->background);
            sum += weights_[f] * backgrounds_[f];
            weights += weights_[f];
        }
        for (std::size_t f = 0; f < frames_.size(); ++f)
            offsets_[f].value = sum / weights - backgrounds_[f];
    }

    void lay_out() {
        const Region r = o_.sky.empty() || panels_ > 1 ? canvas_.bounds() : intersect(o_.sky, canvas_.bounds());
        // Half a cell apart at the least.
        const double kMost = 12000.0 * std::min(5, panels_); // places: more tell no more of what is smooth
        const double area = static_cast<double>(r.width) * r.height;
        const double step = std::max(spacing_ * 0.5, std::sqrt(area / kMost));
        for (double y = r.y + 0.5 * step; y < r.bottom(); y += step)
            for (double x = r.x + 0.5 * step; x < r.right(); x += step)
                places_.push_back({x, y});
        worth_.assign(places_.size(), 1);
    }

    std::vector<LevelSample> differences(std::size_t f) const {
        std::vector<LevelSample> out;
        for (std::size_t k = 0; k < places_.size(); ++k)
            if (const double d = static_cast<double>(sky_[k]) - values_[f][k]; std::isfinite(d))
                out.push_back({places_[k].x, places_[k].y, d, worth_[k]});
        return out;
    }

    /// Where the sky has texture finer than the meshes' cells, frames that lie differently differ by more than noise:
    /// places count by how far they do, mean of the frames there.
    void weigh_places() {
        const Point c = canvas_.centre();
        std::vector<double> squares(places_.size()), count(places_.size());
        for (std::size_t f = 0; f < frames_.size(); ++f) {
            const LevelMap map{c, {1, 0, 0, {}}, offsets_[f]};
            for (std::size_t k = 0; k < places_.size(); ++k) {
                const double d = static_cast<double>(sky_[k]) - values_[f][k];
                if (!std::isfinite(d)) continue;
                const double left = d - map.offset_at(places_[k]);
                squares[k] += weights_[f] * left * left;
                ++count[k];
            }
        }
        std::vector<float> all;
        for (std::size_t k = 0; k < places_.size(); ++k)
            if (count[k] > 1) all.push_back(static_cast<float>(squares[k] / (count[k] - 1)));
        if (all.empty()) return;
        const double usual = median_in_place(all);
        if (!(usual > 0)) return;
        constexpr double kPrior = 2; // frames that show what is usual
        for (std::size_t k = 0; k < places_.size(); ++k) {
            const double free = std::max(0.0, count[k] - 1);
            worth_[k] = usual * (free + kPrior) / (squares[k] + kPrior * usual);
        }
    }

    /// The sky in common: what the frames show, each with its own offset added.
    void find_sky() {
        std::vector<double> sum(places_.size()), weight(places_.size());
        const Point centre = canvas_.centre();
        std::vector<std::vector<float>> shown(frames_.size());
        workers_.for_each(frames_.size(), [&](std::size_t f) {
            const LevelMap map{centre, {1, 0, 0, {}}, offsets_[f]};
            shown[f] = values_[f];
            for (std::size_t k = 0; k < places_.size(); ++k)
                if (std::isfinite(shown[f][k])) shown[f][k] += static_cast<float>(map.offset_at(places_[k]));
        });
        for (std::size_t f = 0; f < frames_.size(); ++f)
            for (std::size_t k = 0; k < places_.size(); ++k)
                if (std::isfinite(shown[f][k])) {
                    sum[k] += weights_[f] * shown[f][k];
                    weight[k] += weights_[f];
                }
        sky_.resize(places_.size());
        for (std::size_t k = 0; k < places_.size(); ++k)
            sky_[k] = weight[k] > 0 ? static_cast<float>(sum[k] / weight[k]) : std::numeric_limits<float>::quiet_NaN();
    }

    /// How far any offset goes from where it is, in the middle or towards the corners, where few frames lead it: in
    /// units of the frame's noise.
    double farthest_move(const std::vector<SmoothMap>& next) const {
        const Point c = canvas_.centre();
        double most = 0;
        for (std::size_t f = 0; f < next.size(); ++f) {
            const LevelMap before{c, {1, 0, 0, {}}, offsets_[f]}, after{c, {1, 0, 0, {}}, next[f]};
            for (const double x : {0.0, c.x, 2 * c.x})
                for (const double y : {0.0, c.y, 2 * c.y})
                    most = std::max(most, std::abs(after.offset_at({x, y}) - before.offset_at({x, y})) *
                                              std::sqrt(weights_[f]));
        }
        return most;
    }

    /// What all offsets have in common says nothing of how frames differ, and would wander.
    void take_off_common(std::vector<SmoothMap>& offsets) const {
        const double total = std::accumulate(weights_.begin(), weights_.end(), 0.0);
        std::vector<double> share;
        for (const double w : weights_)
            share.push_back(w / total);
        SmoothMap common = combined(offsets, share);
        if (std::any_of(offsets.begin(), offsets.end(), [](const SmoothMap& m) { return m.lattice.empty(); }))
            common.lattice = {};
        for (SmoothMap& m : offsets)
            m = combined({m, common}, {1, -1});
    }
    /// Whether offsets have the same parameters: the first of smooth maps have more than what was before.
    static bool of_one_form(const std::vector<SmoothMap>& a, const std::vector<SmoothMap>& b) {
        return std::equal(a.begin(), a.end(), b.begin(), [](const SmoothMap& x, const SmoothMap& y) {
            return x.lattice.coefficients.size() == y.lattice.coefficients.size();
        });
    }
    /// All of some offsets in one row, in units of each frame's noise.
    std::vector<double> parameters_of(const std::vector<SmoothMap>& offsets) const {
        std::vector<double> out;
        for (std::size_t f = 0; f < offsets.size(); ++f) {
            const double unit = std::sqrt(weights_[f]);
            const SmoothMap& m = offsets[f];
            for (const double v : {m.value, m.slope_x * canvas_.width, m.slope_y * canvas_.height})
                out.push_back(unit * v);
            for (const float c : m.lattice.coefficients)
                out.push_back(unit * static_cast<double>(c));
        }
        return out;
    }
    /// The offsets as such a row has them.
    void set_parameters(const std::vector<double>& row) {
        std::size_t at = 0;
        for (std::size_t f = 0; f < offsets_.size(); ++f) {
            const double unit = 1 / std::sqrt(weights_[f]);
            SmoothMap& m = offsets_[f];
            m.value = unit * row[at++];
            m.slope_x = unit * row[at++] / canvas_.width;
            m.slope_y = unit * row[at++] / canvas_.height;
            for (float& c : m.lattice.coefficients)
                c = static_cast<float>(unit * row[at++]);
        }
    }

    void settle(LevelModel model, int rounds) {
        const SmoothFit fit(canvas_, spacing_);
        constexpr std::size_t kMemory = 6; // rounds
        FixedPoint point(kMemory);
        std::vector<SmoothMap> next(frames_.size()), best;
        double least = std::numeric_limits<double>::infinity();
        for (int round = 0; round < rounds; ++round) {
            find_sky();
            workers_.for_each(frames_.size(), [&](std::size_t f) {
                const std::vector<LevelSample> d = differences(f);
                next[f] = d.empty()                     ? offsets_[f]
                          : model == LevelModel::offset ? fit_constant(d)
                          : model == LevelModel::planes ? fit_plane(d, canvas_)
                                                        : fit.fit(d, smoothness_[f]);
            });
            take_off_common(next);
            const double moved = farthest_move(next);
            if (round > 0 && moved < least) least = moved, best = next;
            const double settled = model == LevelModel::local ? 3e-3 : 1e-4; // of a frame's noise
            if (round > 0 && moved < settled) break;
            const bool mixed = of_one_form(offsets_, next);
            const std::vector<double> before = parameters_of(offsets_), made = parameters_of(next);
            offsets_.swap(next);
            if (mixed) set_parameters(point.next(before, made));
        }
        if (!best.empty()) offsets_.swap(best); // what a round made and moved least; the last may have been a try
        find_sky();
    }

    const std::vector<LevelInput>& frames_;
    const Canvas& canvas_;
    const Workers& workers_;
    const LevelOptions& o_;
    std::vector<SmoothMap> offsets_;
    std::vector<Smoothness> smoothness_;
    std::vector<double> weights_, backgrounds_; ///< those scaled
    double spacing_;                            ///< of the meshes' cells, pixels
    std::vector<int> panel_;                    ///< of the frames (registration/panels.hpp)
    int panels_ = 1;
    bool meet_ = false; ///< some places are shown by several panels
    std::vector<Point> places_;
    std::vector<std::vector<float>> values_; ///< by frame and place
    std::vector<double> worth_;              ///< of places
    std::vector<float> sky_;
};

/// Shares of frames, none below 0 and together 1, for which the slopes cancel as far as they can without resting on a
/// few of them: the least of |sum share slope|^2 + stiffness sum share^2 (projected gradient; the projection onto the
/// simplex by J. Duchi et al., ICML 2008).
std::vector<double> flattest(const std::vector<Point>& slopes) {
    const std::size_t n = slopes.size();
    std::vector<double> share(n, 1.0 / static_cast<double>(n));
    double squares = 0;
    for (const Point& s : slopes)
        squares += s.x * s.x + s.y * s.y;
    if (n < 2 || !(squares > 0)) return share;
    constexpr double kStiffness = 0.3;
    const double mean = squares / static_cast<double>(n), step = 0.5 / (squares + kStiffness * mean);
    constexpr int kRounds = 2000;
    std::vector<double> sorted;
    for (int round = 0; round < kRounds; ++round) {
        Point sum{0, 0};
        for (std::size_t k = 0; k < n; ++k)
            sum.x += share[k] * slopes[k].x, sum.y += share[k] * slopes[k].y;
        for (std::size_t k = 0; k < n; ++k)
            share[k] -= 2 * step * (sum.x * slopes[k].x + sum.y * slopes[k].y + kStiffness * mean * share[k]);
        sorted = share;
        std::sort(sorted.rbegin(), sorted.rend());
        double total = 0, threshold = 0;
        for (std::size_t k = 0; k < n; ++k) {
            total += sorted[k];
            const double t = (total - 1) / static_cast<double>(k + 1);
            if (sorted[k] > t) threshold = t;
        }
        for (double& s : share)
            s = std::max(0.0, s - threshold);
    }
    return share;
}

double information_of(const LevelInput& frame, const StarScale& scale) {
    const double sigma = scale.scale * frame.measures->noise;
    return sigma > 0 ? 1 / (sigma * sigma) : 0;
}

/// The frames that make the level: those that tell at least half of what the best one does.
std::vector<std::size_t> best_frames(const std::vector<LevelInput>& frames, const std::vector<StarScale>& scales,
                                     const std::vector<double>& coverages) {
    constexpr double kOfTheBest = 0.5, kNearly = 0.75;
    double most = 0, widest = 0;
    for (std::size_t f = 0; f < frames.size(); ++f) {
        most = std::max(most, information_of(frames[f], scales[f]));
        widest = std::max(widest, coverages[f]);
    }
    std::vector<std::size_t> out;
    for (std::size_t f = 0; f < frames.size(); ++f)
        if (information_of(frames[f], scales[f]) >= kOfTheBest * most && coverages[f] >= kNearly * widest)
            out.push_back(f);
    if (out.empty()) // the best show little of it: the widest
        out.push_back(
            static_cast<std::size_t>(std::max_element(coverages.begin(), coverages.end()) - coverages.begin()));
    return out;
}

} // namespace

std::string LevelOptions::check() const {
    return scales.check();
}

StackLevels fit_stack_levels(const std::vector<LevelInput>& frames, const Canvas& canvas, const Workers& workers,
                             const LevelOptions& options) {
    require_sense(options);
    StackLevels out;
    if (frames.empty()) return out;
    if (!options.sky.empty() && intersect(options.sky, canvas.bounds()).empty())
        throw DataError(
            fmt::format("the region of sky lies outside of the canvas of {} x {} pixels", canvas.width, canvas.height),
            {}, "Give sky in [normalization] in pixels of the reference's grid");
    const std::size_t n = frames.size();
    out.model = options.model;
    out.scales.resize(n);
    if (options.model != LevelModel::none) {
        // The frame with the most stars leads; the level of the best ones together is found afterwards.
        const auto richest =
            std::max_element(frames.begin(), frames.end(), [](const LevelInput& a, const LevelInput& b) {
                return a.measures->stars.size() < b.measures->stars.size();
            });
        out.scales =
            fit_star_scales(frames, canvas, static_cast<std::size_t>(richest - frames.begin()), options.scales);
    }
    SkySolution sky(frames, canvas, workers, options, out.scales);
    std::vector<double> coverages(n);
    for (std::size_t f = 0; f < n; ++f)
        coverages[f] = sky.coverage(f);
    std::vector<std::size_t> best = best_frames(frames, out.scales, coverages);
    if (sky.mosaic()) { // all of them: none stands for the others
        best.resize(n);
        std::iota(best.begin(), best.end(), std::size_t{0});
    }
    std::vector<Point> slopes;
    for (const std::size_t f : best) {
        slopes.push_back(sky.slope(f));
    }
    const std::vector<double> among_best =
        sky.mosaic() ? std::vector<double>(n, 1.0 / static_cast<double>(n)) : flattest(slopes);
    out.shares.assign(n, 0);
    Point slope{0, 0};
    for (std::size_t k = 0; k < best.size(); ++k) {
        out.shares[best[k]] = among_best[k];
        slope.x += among_best[k] * slopes[k].x, slope.y += among_best[k] * slopes[k].y;
    }
    // All that has been found is in units of the lead's scale.
    std::vector<double> scales, informations;
    for (std::size_t f = 0; f < n; ++f) {
        scales.push_back(out.scales[f].scale);
        informations.push_back(information_of(frames[f], out.scales[f]));
    }
    const double unit = options.model == LevelModel::none ? 1 : 1 / common_scale(scales, informations);
    std::vector<SmoothMap> offsets(n);
    if (options.model >= LevelModel::offset) {
        sky.solve();
        offsets = sky.offsets(out.shares);
        if (sky.mosaic()) slope = sky.common_slope(sky.common_tilt());
    }
    out.background = unit * sky.background(offsets, out.shares);
    out.gradient = unit * std::hypot(slope.x, slope.y);
    for (const Point& s : slopes)
        out.steepest = std::max(out.steepest, unit * std::hypot(s.x, s.y));
    for (std::size_t f = 0; f < n; ++f) {
        StarScale& s = out.scales[f];
        s.scale *= unit;
        LevelMap map{canvas.centre(), {s.scale, 0, 0, {}}, combined({offsets[f]}, {unit})};
        if (options.model == LevelModel::local) {
            map.scale.slope_x = s.scale * s.slope_x;
            map.scale.slope_y = s.scale * s.slope_y;
        }
        out.maps.push_back(std::move(map));
    }
    return out;
}

} // namespace kasane
