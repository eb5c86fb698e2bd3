#include <kasane/registration/adjustment.hpp>

#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/products_kernel.hpp>

#include <numeric>

namespace kasane {

namespace {

constexpr int kMostMapping = 8;
using FrameSlopes = Eigen::Matrix<double, 2, kMostMapping>;
using GlassSlopes = Eigen::Matrix<double, 2, kLensNumbers>;
constexpr int kMostBlock = 8; // numbers of a map or a lens; none of these small matrices is allocated
using Block = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::ColMajor, kMostBlock, kMostBlock>;
using Rows = Eigen::Matrix<double, 2, Eigen::Dynamic, Eigen::ColMajor, 2, kMostBlock>;
using Columns = Eigen::Matrix<double, Eigen::Dynamic, 2, Eigen::ColMajor, kMostBlock, 2>;

/// Of a stretch before a fit: what the air does between exposures at different heights, a few parts in ten thousand.
constexpr double kStretch = 5e-4;
/// Of the logarithm of a scale between exposures of one instrument: warmth and focus.
constexpr double kGrowth = 5e-4;

/// Where a frame's plane shows a star, with all derivatives.
struct Slopes {
    Eigen::Vector2d at;
    Eigen::Matrix2d by_position;
    FrameSlopes by_map;
    Eigen::Vector2d by_curvature = Eigen::Vector2d::Zero();
};

Slopes slopes_of(const Adjustment& p, const Adjustment::Frame& f, const Eigen::Vector2d& star) {
    if (!f.pose) {
        const MappingSlopes m = mapping_slopes(f.map, f.mapping, star);
        return {m.at, m.by_position, m.by_mapping};
    }
    const PoseSlopes m = pose_slopes(*f.pose, p.curvature.value, star);
    Slopes out{m.at, m.by_position, FrameSlopes::Zero(), m.by_curvature};
    out.by_map.leftCols<6>() = m.by_pose;
    return out;
}

/// A sighting, linear about where things are: distance and derivatives, divided by its error.
struct Line {
    Eigen::Vector2d distance;
    FrameSlopes by_map;  ///< zero beyond the free numbers
    GlassSlopes by_lens; ///< zero where the lens is not free
    Eigen::Vector2d by_curvature;
    Eigen::Matrix2d by_star;
    int frame = 0, glass = 0;
};

class Solver {
public:
    Solver(Adjustment& p, const AdjustmentOptions& o) : p_(p), o_(o) {
        std::stable_sort(p_.sightings.begin(), p_.sightings.end(),
                         [](const Sighting& a, const Sighting& b) { return a.star < b.star; });
        for (std::size_t i = 0; i < p_.sightings.size(); ++i)
            if (i == 0 || p_.sightings[i].star != p_.sightings[i - 1].star) begin_.push_back(i);
        stars_ = begin_.size();
        begin_.push_back(p_.sightings.size());
        for (auto& f : p_.frames)
            if (!f.fixed && !f.pose) f.map = restricted(f.map, f.mapping);
        follow(p_);
        for (const auto& f : p_.frames)
            offset_.push_back(unknowns_), width_.push_back(f.unknowns()), unknowns_ += width_.back();
        for (const auto& g : p_.lenses) {
            lens_offset_.push_back(unknowns_);
            lens_free_.emplace_back();
            const auto free = free_numbers(g.optics);
            for (int k = 0; k < kLensNumbers; ++k)
                if (free[static_cast<std::size_t>(k)]) lens_free_.back().push_back(k);
            unknowns_ += static_cast<int>(lens_free_.back().size());
        }
        if (p_.curvature.free) curvature_at_ = unknowns_++;
        weight_.assign(p_.sightings.size(), 1);
    }

    AdjustmentResult run() {
        AdjustmentResult out;
        if (stars_ == 0) {
            out.hindrance = "no star is sighted by two frames";
            return out;
        }
        double damping = 1e-6;
        out.scale = reweigh(p_);
        for (; out.rounds < o_.rounds; ++out.rounds) {
            linearise();
            const double before = cost(p_, out.scale);
            Adjustment next = p_;
            const Step taken = step(next, damping, out.scale);
            if (!std::isfinite(taken.largest)) {
                out.hindrance = "the frames do not determine what is asked for";
                return out;
            }
            if (cost(next, out.scale) <= before * (1 + 1e-12)) {
                p_ = std::move(next);
                damping = std::max(1e-9, damping * 0.1);
                const double was = out.scale;
                out.scale = reweigh(p_);
                constexpr double kSameScale = 1e-3;
                constexpr double kFree = 1e-3; // damping, up to which a step is what it would be without
                const bool near = damping < kFree && taken.decrement < std::pow(o_.enough * out.scale, 2);
                const bool small = taken.largest < o_.settled || near;
                if (small && std::abs(out.scale - was) < kSameScale * was) break;
            } else {
                constexpr double kMostDamping = 1e4;
                damping *= 30;
                if (damping > kMostDamping) break;
            }
        }
        return out;
    }

private:
    /// What speaks against a pose before any star is seen.
    static double held_back(const Adjustment::Frame& f) {
        if (!f.pose || f.fixed) return 0;
        return (f.stretched ? f.pose->stretch.squaredNorm() / (kStretch * kStretch) : 0) +
               (f.own_scale ? 0 : std::pow(f.pose->growth / kGrowth, 2));
    }
    void hold_poses(double scale, Eigen::VectorXd& held, Eigen::VectorXd& right) const {
        const auto hold = [&](int at, double value, double sigma) {
            const double w = scale * scale / (sigma * sigma);
            held[at] += w;
            right[at] -= w * value;
        };
        constexpr int kGrowthAt = 3, kStretchAt = 4; // among the numbers of a pose
        for (std::size_t f = 0; f < p_.frames.size(); ++f) {
            const auto& frame = p_.frames[f];
            if (!frame.pose || frame.fixed) continue;
            if (!frame.own_scale) hold(offset_[f] + kGrowthAt, frame.pose->growth, kGrowth);
            for (int k = 0; frame.stretched && k < 2; ++k)
                hold(offset_[f] + kStretchAt + k, frame.pose->stretch[k], kStretch);
        }
        if (curvature_at_ >= 0) hold(curvature_at_, p_.curvature.value - p_.curvature.expected, p_.curvature.sigma);
    }

    /// Maps of poses.
    static void follow(Adjustment& p) {
        for (auto& f : p.frames)
            if (f.pose && !f.fixed) f.map = f.pose->map(p.curvature.value);
    }

    double reweigh(const Adjustment& p) {
        const std::vector<double> r2 = p.residuals();
        std::vector<float> lengths;
        // A star that is sighted n times takes its share of the residuals away.
        for (std::size_t s = 0; s < stars_; ++s) {
            const double n = static_cast<double>(begin_[s + 1] - begin_[s]), share = n > 1 ? (n - 1) / n : 1;
            for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i)
                lengths.push_back(static_cast<float>(std::sqrt(r2[i] / share)));
        }
        std::vector<float> sorted = lengths;
        constexpr double kMedian = 1.17741, kLeast = 0.3; // of the length of a vector of two unit normals
        const double scale = std::max(kLeast, static_cast<double>(median_in_place(sorted)) / kMedian);
        for (std::size_t i = 0; o_.robust && i < weight_.size(); ++i)
            weight_[i] = bisquare_weight(static_cast<double>(lengths[i]) / (kBisquareTuning * scale), 1e-9);
        return scale;
    }

    double cost(const Adjustment& p, double scale) const {
        const std::vector<double> r2 = p.residuals();
        double sum = 0;
        for (std::size_t i = 0; i < r2.size(); ++i)
            sum += weight_[i] * (std::isfinite(r2[i]) ? r2[i] : 1e30);
        const LensNumbers prior = lens_prior();
        for (std::size_t g = 0; g < p.lenses.size(); ++g)
            for (const int k : lens_free_[g])
                sum += std::pow(scale * p.lenses[g].numbers[k] / prior[k], 2);
        for (const auto& f : p.frames)
            sum += scale * scale * held_back(f);
        if (p.curvature.free)
            sum += std::pow(scale * (p.curvature.value - p.curvature.expected) / p.curvature.sigma, 2);
        return sum;
    }

    void linearise() {
        lines_.resize(p_.sightings.size());
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            const Sighting& s = p_.sightings[i];
            const auto& f = p_.frames[static_cast<std::size_t>(s.frame)];
            const auto& lens = p_.lenses[static_cast<std::size_t>(f.glass)];
            const Slopes m = slopes_of(p_, f, p_.stars[static_cast<std::size_t>(s.star)]);
            const LensSlopes l = lens_slopes(lens.numbers, m.at);
            const double unit = std::sqrt(weight_[i] / s.variance) * f.normal.radius;
            Line& line = lines_[i];
            line.frame = s.frame, line.glass = f.glass;
            line.distance = unit * (f.normal.in(s.at) - l.at);
            line.by_star = unit * l.by_position * m.by_position;
            line.by_map = f.fixed ? FrameSlopes(FrameSlopes::Zero()) : FrameSlopes(unit * l.by_position * m.by_map);
            line.by_curvature =
                f.fixed ? Eigen::Vector2d(0, 0) : Eigen::Vector2d(unit * l.by_position * m.by_curvature);
            line.by_lens = unit * l.by_lens;
        }
    }

    /// The part of a vector of unknowns that a line sees.
    Eigen::Vector2d seen(const Line& l, const Eigen::VectorXd& v) const {
        Eigen::Vector2d out = Eigen::Vector2d::Zero();
        const auto f = static_cast<std::size_t>(l.frame);
        for (int k = 0; k < width_[f]; ++k)
            out += l.by_map.col(k) * v[offset_[f] + k];
        const auto g = static_cast<std::size_t>(l.glass);
        for (std::size_t k = 0; k < lens_free_[g].size(); ++k)
            out += l.by_lens.col(lens_free_[g][k]) * v[lens_offset_[g] + static_cast<int>(k)];
        if (curvature_at_ >= 0) out += l.by_curvature * v[curvature_at_];
        return out;
    }
    void spread(const Line& l, const Eigen::Vector2d& d, Eigen::VectorXd& v) const {
        const auto f = static_cast<std::size_t>(l.frame);
        for (int k = 0; k < width_[f]; ++k)
            v[offset_[f] + k] += l.by_map.col(k).dot(d);
        const auto g = static_cast<std::size_t>(l.glass);
        for (std::size_t k = 0; k < lens_free_[g].size(); ++k)
            v[lens_offset_[g] + static_cast<int>(k)] += l.by_lens.col(lens_free_[g][k]).dot(d);
        if (curvature_at_ >= 0) v[curvature_at_] += l.by_curvature.dot(d);
    }

    struct Step {
        double largest;       ///< change; NaN where there is no step
        double decrement = 0; ///< of the cost, as Newton has it: the square of the step in units of its error
    };

    /// One damped step of everything.
    Step step(Adjustment& next, double damping, double scale) const {
        const int n = unknowns_;
        std::vector<Eigen::Matrix2d> inverse(stars_);
        std::vector<Eigen::Vector2d> pull(stars_);
        double stars_decrement = 0; // with all else as it is
        Eigen::VectorXd right = Eigen::VectorXd::Zero(n), diagonal = Eigen::VectorXd::Zero(n);
        std::vector<Block> blocks; // of the frames, then of the lenses
        for (const auto& f : p_.frames)
            blocks.push_back(Block::Zero(f.unknowns(), f.unknowns()));
        for (const auto& free : lens_free_)
            blocks.push_back(Block::Zero(static_cast<int>(free.size()), static_cast<int>(free.size())));
        if (curvature_at_ >= 0) blocks.push_back(Block::Zero(1, 1));
        std::vector<Columns> of_star(lens_free_.size()); // a lens's lines against one star
        for (std::size_t s = 0; s < stars_; ++s) {
            Eigen::Matrix2d v = Eigen::Matrix2d::Zero();
            Eigen::Vector2d g = Eigen::Vector2d::Zero();
            for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i) {
                v += lines_[i].by_star.transpose() * lines_[i].by_star;
                g += lines_[i].by_star.transpose() * lines_[i].distance;
            }
            v.diagonal() *= 1 + damping;
            v.diagonal().array() += 1e-12;
            inverse[s] = v.inverse();
            pull[s] = inverse[s] * g;
            stars_decrement += g.dot(pull[s]);
            for (std::size_t k = 0; k < lens_free_.size(); ++k)
                of_star[k] = Columns::Zero(static_cast<int>(lens_free_[k].size()), 2);
            Eigen::Vector2d bent = Eigen::Vector2d::Zero(); // the curvature's lines against it
            for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i) {
                const Line& l = lines_[i];
                spread(l, l.distance - l.by_star * pull[s], right);
                const auto f = static_cast<std::size_t>(l.frame);
                if (!p_.frames[f].fixed) {
                    const int d = width_[f];
                    const Rows a = l.by_map.leftCols(d);
                    const Columns b = a.transpose().lazyProduct(l.by_star);
                    const Block own = a.transpose().lazyProduct(a);
                    for (int k = 0; k < d; ++k)
                        diagonal[offset_[f] + k] += own(k, k);
                    const Columns c = b.lazyProduct(inverse[s]);
                    blocks[f] += own - c.lazyProduct(b.transpose());
                }
                if (curvature_at_ >= 0) {
                    diagonal[curvature_at_] += l.by_curvature.squaredNorm();
                    blocks.back()(0, 0) += l.by_curvature.squaredNorm();
                    bent += l.by_star.transpose() * l.by_curvature;
                }
                const auto g2 = static_cast<std::size_t>(l.glass);
                const auto& free = lens_free_[g2];
                if (free.empty()) continue;
                Rows a(2, static_cast<int>(free.size()));
                for (std::size_t k = 0; k < free.size(); ++k)
                    a.col(static_cast<int>(k)) = l.by_lens.col(free[k]);
                const Block own = a.transpose().lazyProduct(a);
                for (std::size_t k = 0; k < free.size(); ++k)
                    diagonal[lens_offset_[g2] + static_cast<int>(k)] += own(static_cast<int>(k), static_cast<int>(k));
                blocks[p_.frames.size() + g2] += own;
                of_star[g2] += a.transpose().lazyProduct(l.by_star);
            }
            for (std::size_t k = 0; k < lens_free_.size(); ++k)
                if (!lens_free_[k].empty()) {
                    const Columns c = of_star[k].lazyProduct(inverse[s]);
                    blocks[p_.frames.size() + k] -= c.lazyProduct(of_star[k].transpose());
                }
            if (curvature_at_ >= 0) blocks.back()(0, 0) -= bent.dot(inverse[s] * bent);
        }
        Eigen::VectorXd held = damping * diagonal;
        const LensNumbers prior = lens_prior();
        for (std::size_t g = 0; g < lens_free_.size(); ++g)
            for (std::size_t k = 0; k < lens_free_[g].size(); ++k) {
                const int at = lens_offset_[g] + static_cast<int>(k), number = lens_free_[g][k];
                const double w = scale * scale / (prior[number] * prior[number]);
                held[at] += w;
                right[at] -= w * p_.lenses[g].numbers[number];
            }
        hold_poses(scale, held, right);
        constexpr int kFew = 1200; // unknowns whose matrix is soon written down
        const Eigen::VectorXd by =
            n <= kFew ? solve_at_once(held, inverse, right) : solve(blocks, held, inverse, right);
        if (!by.allFinite()) return {std::nan("")};
        Step taken{n > 0 ? by.cwiseAbs().maxCoeff() : 0, stars_decrement + by.dot(right)};
        for (std::size_t f = 0; f < next.frames.size(); ++f)
            if (next.frames[f].pose && !next.frames[f].fixed)
                kasane::step(*next.frames[f].pose, width_[f], by.data() + offset_[f]);
            else if (!next.frames[f].fixed)
                kasane::step(next.frames[f].map, next.frames[f].mapping, by.data() + offset_[f]);
        if (curvature_at_ >= 0) next.curvature.value += by[curvature_at_];
        follow(next);
        for (std::size_t g = 0; g < lens_free_.size(); ++g)
            for (std::size_t k = 0; k < lens_free_[g].size(); ++k)
                next.lenses[g].numbers[lens_free_[g][k]] += by[lens_offset_[g] + static_cast<int>(k)];
        for (std::size_t s = 0; s < stars_; ++s) {
            Eigen::Vector2d back = pull[s];
            for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i)
                back -= inverse[s] * (lines_[i].by_star.transpose() * seen(lines_[i], by));
            next.stars[static_cast<std::size_t>(p_.sightings[begin_[s]].star)] += back;
            taken.largest = std::max(taken.largest, back.cwiseAbs().maxCoeff());
        }
        return taken;
    }

    /// The numbers that a line depends on, by their places among all.
    template <class Take>
    void each_number(const Line& l, Take take) const {
        const auto f = static_cast<std::size_t>(l.frame), g = static_cast<std::size_t>(l.glass);
        for (int k = 0; k < width_[f]; ++k)
            take(offset_[f] + k, Eigen::Vector2d(l.by_map.col(k)));
        for (std::size_t k = 0; k < lens_free_[g].size(); ++k)
            take(lens_offset_[g] + static_cast<int>(k), Eigen::Vector2d(l.by_lens.col(lens_free_[g][k])));
        if (curvature_at_ >= 0) take(curvature_at_, l.by_curvature);
    }

    /// The complement of the stars written down, and factored.
    Eigen::VectorXd solve_at_once(const Eigen::VectorXd& held, const std::vector<Eigen::Matrix2d>& inverse,
                                  const Eigen::VectorXd& right) const {
        const auto n = right.size();
        Eigen::MatrixXd whole = Eigen::MatrixXd::Zero(n, n);
        std::vector<int> place(static_cast<std::size_t>(n), -1), numbers;
        std::vector<Eigen::Vector2d> against; // a number's lines against the star
        std::vector<double> xs, ys;           // the same in the order of the numbers
        std::vector<std::size_t> runs;        // where numbers that follow one another begin
        for (std::size_t s = 0; s < stars_; ++s) {
            numbers.clear();
            against.clear();
            for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i) {
                const Line& l = lines_[i];
                each_number(l, [&](int at, const Eigen::Vector2d& a) {
                    int& p = place[static_cast<std::size_t>(at)];
                    if (p < 0) {
                        p = static_cast<int>(numbers.size());
                        numbers.push_back(at);
                        against.emplace_back(0, 0);
                    }
                    against[static_cast<std::size_t>(p)] += l.by_star.transpose() * a;
                    each_number(l, [&](int other, const Eigen::Vector2d& b) {
                        if (other <= at) whole(other, at) += a.dot(b);
                    });
                });
            }
            if (!std::is_sorted(numbers.begin(), numbers.end())) std::sort(numbers.begin(), numbers.end());
            xs.clear(), ys.clear(), runs.clear();
            for (std::size_t k = 0; k < numbers.size(); ++k) {
                const Eigen::Vector2d& a =
                    against[static_cast<std::size_t>(place[static_cast<std::size_t>(numbers[k])])];
                xs.push_back(a.x()), ys.push_back(a.y());
                if (k == 0 || numbers[k] != numbers[k - 1] + 1) runs.push_back(k);
            }
            runs.push_back(numbers.size());
            for (std::size_t j = 0; j < numbers.size(); ++j) { // the upper half, column by column
                const Eigen::Vector2d v = inverse[s] * Eigen::Vector2d(xs[j], ys[j]);
                for (std::size_t r = 0; r + 1 < runs.size() && runs[r] <= j; ++r) {
                    const std::size_t from = runs[r], count = std::min(runs[r + 1], j + 1) - from;
                    double* const column = whole.col(numbers[j]).data() + numbers[from];
                    subtract_products(v.x(), xs.data() + from, v.y(), ys.data() + from, count, column);
                }
            }
            for (const int at : numbers)
                place[static_cast<std::size_t>(at)] = -1;
        }
        whole.diagonal() += held;
        whole.diagonal().array() += 1e-12 * std::max(1e-12, whole.diagonal().maxCoeff());
        return whole.selfadjointView<Eigen::Upper>().ldlt().solve(right);
    }

    /// Conjugate gradients on the complement of the stars, preconditioned by its blocks.
    Eigen::VectorXd solve(const std::vector<Block>& blocks, const Eigen::VectorXd& held,
                          const std::vector<Eigen::Matrix2d>& inverse, const Eigen::VectorXd& right) const {
        std::vector<Eigen::LDLT<Block>> factors;
        int at = 0;
        for (const Block& b : blocks) {
            const auto d = static_cast<int>(b.rows());
            Block m = b;
            m.diagonal() += held.segment(at, d);
            m.diagonal().array() += 1e-9 * std::max(1e-12, d > 0 ? m.diagonal().maxCoeff() : 0);
            factors.emplace_back(m);
            at += d;
        }
        const auto precondition = [&](const Eigen::VectorXd& r) {
            Eigen::VectorXd z(r.size());
            int from = 0;
            for (std::size_t k = 0; k < blocks.size(); ++k) {
                const auto d = static_cast<int>(blocks[k].rows());
                if (d > 0) z.segment(from, d) = factors[k].solve(r.segment(from, d));
                from += d;
            }
            return z;
        };
        std::vector<Eigen::Vector2d> seen_by(lines_.size());
        const auto times = [&](const Eigen::VectorXd& v) {
            Eigen::VectorXd out = held.cwiseProduct(v);
            for (std::size_t s = 0; s < stars_; ++s) {
                Eigen::Vector2d t = Eigen::Vector2d::Zero();
                for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i) {
                    seen_by[i] = seen(lines_[i], v);
                    t += lines_[i].by_star.transpose() * seen_by[i];
                }
                t = inverse[s] * t;
                for (std::size_t i = begin_[s]; i < begin_[s + 1]; ++i)
                    spread(lines_[i], seen_by[i] - lines_[i].by_star * t, out);
            }
            return out;
        };
        Eigen::VectorXd x = Eigen::VectorXd::Zero(right.size()), r = right, z = precondition(r), p = z;
        double rz = r.dot(z);
        constexpr double kEnough = 1e-16; // of the square
        const double first = rz;
        for (int i = 0; i < o_.most_gradients && rz > kEnough * first && first > 0; ++i) {
            const Eigen::VectorXd q = times(p);
            const double pq = p.dot(q);
            if (!(pq > 0)) break;
            const double a = rz / pq;
            x += a * p;
            r -= a * q;
            z = precondition(r);
            const double now = r.dot(z);
            p = z + now / rz * p;
            rz = now;
        }
        return x;
    }

    Adjustment& p_;
    const AdjustmentOptions& o_;
    std::vector<std::size_t> begin_; ///< of each star's sightings
    std::size_t stars_ = 0;
    std::vector<int> offset_, lens_offset_; ///< of the unknowns of frames and lenses
    std::vector<int> width_;                ///< how many they are of each frame
    std::vector<std::vector<int>> lens_free_;
    int unknowns_ = 0;
    int curvature_at_ = -1; ///< among the unknowns; -1: it is not free
    std::vector<double> weight_;
    std::vector<Line> lines_;
};

} // namespace

Point Adjustment::predict(int frame, const Eigen::Vector2d& star) const {
    const Frame& f = frames[static_cast<std::size_t>(frame)];
    const Eigen::Vector2d ideal = mapping_slopes(f.map, Mapping::shift, star).at;
    return f.normal.out(lens_slopes(lenses[static_cast<std::size_t>(f.glass)].numbers, ideal).at);
}

std::vector<double> Adjustment::residuals() const {
    std::vector<double> out;
    out.reserve(sightings.size());
    for (const Sighting& s : sightings) {
        const Point p = predict(s.frame, stars[static_cast<std::size_t>(s.star)]);
        out.push_back(((s.at.x - p.x) * (s.at.x - p.x) + (s.at.y - p.y) * (s.at.y - p.y)) / s.variance);
    }
    return out;
}

AdjustmentResult adjust(Adjustment& problem, const AdjustmentOptions& options) {
    return Solver(problem, options).run();
}

Eigen::Vector2d intersect(const Adjustment& p, const std::vector<Sighting>& sightings, const Eigen::Vector2d& start) {
    Eigen::Vector2d at = start;
    constexpr int kRounds = 3; // nearly linear
    for (int round = 0; round < kRounds; ++round) {
        Eigen::Matrix2d normal = Eigen::Matrix2d::Zero();
        Eigen::Vector2d right = Eigen::Vector2d::Zero();
        for (const Sighting& s : sightings) {
            const auto& f = p.frames[static_cast<std::size_t>(s.frame)];
            const MappingSlopes m = mapping_slopes(f.map, f.mapping, at);
            const LensSlopes l = lens_slopes(p.lenses[static_cast<std::size_t>(f.glass)].numbers, m.at);
            const Eigen::Matrix2d j = l.by_position * m.by_position;
            const double w = f.normal.radius * f.normal.radius / s.variance;
            normal += w * j.transpose() * j;
            right += w * j.transpose() * (f.normal.in(s.at) - l.at);
        }
        const Eigen::Vector2d by = normal.ldlt().solve(right);
        if (!by.allFinite()) return at;
        at += by;
    }
    return at;
}

} // namespace kasane
