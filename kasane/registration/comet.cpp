#include <kasane/registration/comet.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr double kHour = 3600;

/// One degree, robustly.
CometFit fit_of_degree(const std::vector<CometSighting>& s, double epoch, int degree, double& chi2) {
    const auto n = static_cast<Eigen::Index>(s.size()), terms = static_cast<Eigen::Index>(degree + 1);
    Eigen::MatrixXd rows(n, terms), values(n, 2), solution;
    Eigen::VectorXd weights(n), share = Eigen::VectorXd::Ones(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const CometSighting& one = s[static_cast<std::size_t>(i)];
        const double hours = (one.time - epoch) / kHour;
        for (Eigen::Index k = 0; k < terms; ++k)
            rows(i, k) = std::pow(hours, static_cast<double>(k));
        values(i, 0) = one.at.x, values(i, 1) = one.at.y;
        weights(i) = 1 / (one.sigma * one.sigma);
    }
    constexpr int kRounds = 8;
    for (int round = 0; round < kRounds; ++round) {
        const Eigen::VectorXd root = (weights.array() * share.array()).sqrt();
        solution = (root.asDiagonal() * rows).colPivHouseholderQr().solve(root.asDiagonal() * values);
        const Eigen::MatrixXd left = values - rows * solution;
        std::vector<float> off;
        for (Eigen::Index i = 0; i < n; ++i)
            off.push_back(static_cast<float>(left.row(i).norm() * std::sqrt(weights(i))));
        std::vector<float> sorted = off;
        constexpr double kMedianOfTwo = 1.1774; // of a distance in two coordinates of unit error
        const double sigma = std::max(1.0, static_cast<double>(median_in_place(sorted)) / kMedianOfTwo);
        chi2 = 0;
        for (Eigen::Index i = 0; i < n; ++i) {
            const double r = static_cast<double>(off[static_cast<std::size_t>(i)]);
            // With a line through two or three, none can be told to be off.
            share(i) = n > terms + 2 ? bisquare_weight(r / (kBisquareTuning * sigma), 1e-6) : 1;
            chi2 += share(i) * r * r;
        }
    }
    CometFit fit;
    fit.path.epoch = epoch;
    for (Eigen::Index k = 0; k < terms; ++k)
        fit.path.terms.push_back({solution(k, 0), solution(k, 1)});
    double squares = 0, count = 0;
    for (std::size_t i = 0; i < s.size(); ++i) {
        const Point there = fit.path.at(s[i].time);
        fit.off.push_back({s[i].at.x - there.x, s[i].at.y - there.y});
        constexpr double kCounts = 0.05;
        fit.used.push_back(share(static_cast<Eigen::Index>(i)) > kCounts);
        if (!fit.used.back()) continue;
        squares += fit.off.back().x * fit.off.back().x + fit.off.back().y * fit.off.back().y;
        ++count;
    }
    fit.rms = count > 0 ? std::sqrt(squares / count) : 0;
    return fit;
}

} // namespace

Point CometPath::at(double time) const {
    const double hours = (time - epoch) / kHour;
    Point out{0, 0};
    for (auto term = terms.rbegin(); term != terms.rend(); ++term)
        out = {out.x * hours + term->x, out.y * hours + term->y};
    return out;
}

Point CometPath::rate(double time) const {
    const double hours = (time - epoch) / kHour;
    Point out{0, 0};
    for (std::size_t k = terms.size(); k-- > 1;)
        out = {out.x * hours + static_cast<double>(k) * terms[k].x,
               out.y * hours + static_cast<double>(k) * terms[k].y};
    return {out.x / kHour, out.y / kHour};
}

std::optional<CometFit> fit_comet_path(const std::vector<CometSighting>& sightings) {
    double first = 0, last = 0, sum = 0;
    for (std::size_t i = 0; i < sightings.size(); ++i) {
        const double t = sightings[i].time;
        first = i == 0 ? t : std::min(first, t), last = i == 0 ? t : std::max(last, t);
        sum += t;
    }
    constexpr double kApart = 1; // seconds
    if (sightings.size() < 2 || last - first < kApart) return std::nullopt;
    const double epoch = std::round(sum / static_cast<double>(sightings.size()));
    double chi2 = 0;
    CometFit best = fit_of_degree(sightings, epoch, 1, chi2);
    constexpr int kMost = 3;
    constexpr double kGain = 12;
    for (int degree = 2; degree <= kMost && sightings.size() >= static_cast<std::size_t>(3 * (degree + 1)); ++degree) {
        double next_chi2 = 0;
        CometFit next = fit_of_degree(sightings, epoch, degree, next_chi2);
        const double free = 2 * (static_cast<double>(sightings.size()) - (degree + 1));
        if (chi2 - next_chi2 < kGain * std::max(1.0, next_chi2 / free)) break;
        best = std::move(next);
        chi2 = next_chi2;
    }
    return best;
}

namespace {

/// A picture without stars, about a point; and its background.
class CometPicture {
public:
    CometPicture(View<const float> picture, const std::vector<Disc>& stars) : picture_(picture) {
        hidden_ = Mask(picture.width, picture.height);
        for (const Disc& d : stars)
            for (int y = std::max(0, static_cast<int>(std::floor(d.y - d.radius)));
                 y <= std::min(picture.height - 1, static_cast<int>(std::ceil(d.y + d.radius))); ++y)
                for (int x = std::max(0, static_cast<int>(std::floor(d.x - d.radius)));
                     x <= std::min(picture.width - 1, static_cast<int>(std::ceil(d.x + d.radius))); ++x)
                    if (std::hypot(x - d.x, y - d.y) <= d.radius) hidden_(x, y) = 1;
    }

    void settle_background(Point middle, double from) {
        std::vector<float> ring;
        for (int y = 0; y < picture_.height; ++y)
            for (int x = 0; x < picture_.width; ++x)
                if (std::hypot(x - middle.x, y - middle.y) >= from && !hidden_(x, y) && std::isfinite(picture_(x, y)))
                    ring.push_back(picture_(x, y));
        background_ = ring.empty() ? 0 : static_cast<double>(median_in_place(ring));
    }

    /// Above the background; of a hidden pixel that opposite of the middle; 0 where there is neither.
    double at(int x, int y, Point middle) const {
        if (const double v = own(x, y); std::isfinite(v)) return v;
        const double v =
            own(static_cast<int>(std::lround(2 * middle.x - x)), static_cast<int>(std::lround(2 * middle.y - y)));
        return std::isfinite(v) ? v : 0;
    }
    double own(int x, int y) const {
        const bool there = x >= 0 && y >= 0 && x < picture_.width && y < picture_.height && !hidden_(x, y);
        return there ? static_cast<double>(picture_(x, y)) - background_ : std::nan("");
    }

private:
    View<const float> picture_;
    Mask hidden_;
    double background_ = 0;
};

/// The highest point of the picture under a Gaussian of 1.5 pixels.
Point highest(const CometPicture& picture, const Region& where) {
    constexpr int kReach = 4;
    constexpr double kSigma = 1.5;
    Point best{where.x + 0.5 * where.width, where.y + 0.5 * where.height};
    double most = -1e300;
    for (int y = where.y; y < where.bottom(); ++y)
        for (int x = where.x; x < where.right(); ++x) {
            double sum = 0, weights = 0;
            for (int j = -kReach; j <= kReach; ++j)
                for (int i = -kReach; i <= kReach; ++i)
                    if (const double v = picture.own(x + i, y + j); std::isfinite(v)) {
                        const double w = std::exp(-0.5 * (i * i + j * j) / (kSigma * kSigma));
                        sum += w * v, weights += w;
                    }
            if (weights > 0 && sum / weights > most) most = sum / weights, best = {1.0 * x, 1.0 * y};
        }
    return best;
}

} // namespace

std::optional<CometMiddle> find_comet(View<const float> image, Point expected, double noise,
                                      const std::vector<Disc>& stars, const CometSearch& o) {
    CometPicture picture(image, stars);
    picture.settle_background(expected, o.reach + 2 * o.width);
    const auto whole = [](double v) { return static_cast<int>(std::lround(v)); };
    const int reach = std::max(1, whole(o.reach));
    const Region near = intersect({whole(expected.x) - reach, whole(expected.y) - reach, 2 * reach + 1, 2 * reach + 1},
                                  {0, 0, image.width, image.height});
    if (near.empty()) return std::nullopt;
    CometMiddle out;
    out.at = highest(picture, near);
    const int box = static_cast<int>(std::ceil(3 * o.width));
    constexpr int kRounds = 40;
    constexpr double kSettled = 1e-3;
    for (int round = 0; round < kRounds; ++round) {
        double sum = 0, sx = 0, sy = 0, squares = 0, spread = 0;
        const int cx = whole(out.at.x), cy = whole(out.at.y);
        for (int y = cy - box; y <= cy + box; ++y)
            for (int x = cx - box; x <= cx + box; ++x) {
                const double dx = x - out.at.x, dy = y - out.at.y, r2 = dx * dx + dy * dy;
                const double w = std::exp(-0.5 * r2 / (o.width * o.width)), v = picture.at(x, y, out.at);
                sum += w * v, sx += w * v * dx, sy += w * v * dy;
                squares += w * w, spread += w * w * 0.5 * r2;
            }
        out.snr = sum / (noise * std::sqrt(squares));
        if (!(out.snr >= o.least_snr)) return std::nullopt;
        // Twice the way: a window as wide as what it sees shows half of it.
        const double mx = 2 * sx / sum, my = 2 * sy / sum;
        out.at = {out.at.x + mx, out.at.y + my};
        out.sigma = 2 * noise * std::sqrt(spread) / sum;
        if (std::hypot(out.at.x - expected.x, out.at.y - expected.y) > o.reach + o.width) return std::nullopt;
        if (std::hypot(mx, my) < kSettled) break;
    }
    return out;
}

} // namespace kasane
