#include <kasane/grading/drift.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

double median(std::vector<float> v) {
    return v.empty() ? 0 : median_in_place(v);
}

double spread(std::vector<float> v) {
    const float middle = median_in_place(v);
    return mad_sigma_in_place(v, middle);
}

struct Line {
    double slope = 0, error = 0, middle = 0; ///< a unit of time; its error; value at time 0
};

/// Median of the slopes of all pairs; the error follows from the scatter about it.
Line fit_line(const std::vector<double>& t, const std::vector<double>& v) {
    std::vector<float> slopes, offsets, residuals;
    for (std::size_t i = 0; i < t.size(); ++i)
        for (std::size_t j = i + 1; j < t.size(); ++j)
            if (t[j] != t[i]) slopes.push_back(static_cast<float>((v[j] - v[i]) / (t[j] - t[i])));
    Line line;
    if (slopes.empty()) return line;
    line.slope = median(slopes);
    double mean = 0, square = 0;
    for (std::size_t i = 0; i < t.size(); ++i) {
        offsets.push_back(static_cast<float>(v[i] - line.slope * t[i]));
        mean += t[i] / static_cast<double>(t.size());
    }
    line.middle = median(offsets);
    for (std::size_t i = 0; i < t.size(); ++i) {
        residuals.push_back(static_cast<float>(v[i] - line.middle - line.slope * t[i]));
        square += (t[i] - mean) * (t[i] - mean);
    }
    line.error = 1.1 * spread(residuals) / std::sqrt(std::max(1e-12, square)); // 1.1: efficiency of the median slope
    return line;
}

/// Steps that stay, far above the scatter from exposure to exposure.
std::vector<std::size_t> find_jumps(std::vector<double> v, double least) {
    constexpr std::size_t kSide = 4;
    std::vector<std::size_t> jumps;
    if (v.size() < 2 * kSide) return jumps;
    std::vector<float> steps;
    for (std::size_t i = 1; i < v.size(); ++i)
        steps.push_back(static_cast<float>(v[i] - v[i - 1]));
    const double scatter = spread(steps) / std::sqrt(2.0);
    const auto side = [&](std::size_t from, std::size_t to) {
        std::vector<float> values;
        for (std::size_t i = from; i < to; ++i)
            values.push_back(static_cast<float>(v[i]));
        return median(values);
    };
    for (;;) {
        double best = 0;
        std::size_t where = 0;
        for (std::size_t i = kSide; i + kSide <= v.size(); ++i) {
            const double step = side(i, i + kSide) - side(i - kSide, i);
            // The very step between both neighbours decides the place: a drift has none.
            const double here = v[i] - v[i - 1];
            if (std::abs(step) > std::max(least, 6 * scatter) && std::abs(here) > 0.5 * std::abs(step) &&
                std::abs(step) > std::abs(best)) {
                best = step;
                where = i;
            }
        }
        if (where == 0) break;
        jumps.push_back(where);
        for (std::size_t i = where; i < v.size(); ++i)
            v[i] -= best;
        if (jumps.size() > 8) break;
    }
    std::sort(jumps.begin(), jumps.end());
    return jumps;
}

/// Takes the steps out of a series: each part is brought to the median of the ones next to the step.
void close_jumps(std::vector<double>& v, const std::vector<std::size_t>& jumps) {
    for (const std::size_t at : jumps) {
        const std::size_t from = at >= 4 ? at - 4 : 0, to = std::min(v.size(), at + 4);
        std::vector<float> before, after;
        for (std::size_t i = from; i < at; ++i)
            before.push_back(static_cast<float>(v[i]));
        for (std::size_t i = at; i < to; ++i)
            after.push_back(static_cast<float>(v[i]));
        const double step = median(after) - median(before);
        for (std::size_t i = at; i < v.size(); ++i)
            v[i] -= step;
    }
}

struct Wave {
    double period = 0, amplitude = 0, chance = 1;
};

/// The strongest period of residuals, and the probability that noise alone would show one as strong.
Wave strongest_period(const std::vector<double>& t, const std::vector<double>& v) {
    Wave wave;
    std::vector<float> steps;
    double variance = 0;
    for (std::size_t i = 1; i < t.size(); ++i)
        steps.push_back(static_cast<float>(t[i] - t[i - 1]));
    for (const double x : v)
        variance += x * x / static_cast<double>(v.size() - 1);
    const double span = t.back() - t.front(), step = median(steps);
    if (!(step > 0) || !(variance > 0)) return wave;
    const double highest = 0.5 / step, lowest = 2 / span; // cycles a second
    const int tried = static_cast<int>(4 * span * (highest - lowest));
    double best = 0;
    for (int k = 0; k <= tried; ++k) {
        const double w = 2 * kPi * (lowest + k * (highest - lowest) / std::max(1, tried));
        double s2 = 0, c2 = 0;
        for (const double x : t) {
            s2 += std::sin(2 * w * x);
            c2 += std::cos(2 * w * x);
        }
        const double tau = 0.5 * std::atan2(s2, c2) / w;
        double xc = 0, xs = 0, cc = 0, ss = 0;
        for (std::size_t i = 0; i < t.size(); ++i) {
            const double c = std::cos(w * (t[i] - tau)), s = std::sin(w * (t[i] - tau));
            xc += v[i] * c;
            xs += v[i] * s;
            cc += c * c;
            ss += s * s;
        }
        const double power = 0.5 * (xc * xc / std::max(1e-9, cc) + xs * xs / std::max(1e-9, ss)) / variance;
        if (power > best) {
            best = power;
            wave.period = 2 * kPi / w;
            wave.amplitude = std::hypot(xc / std::max(1e-9, cc), xs / std::max(1e-9, ss));
        }
    }
    // Residuals hold the wave itself: the statistic is bounded by n / 2 (A. Schwarzenberg-Czerny, ApJ 489, 1997).
    const double n = static_cast<double>(v.size());
    const double single = std::pow(std::max(0.0, 1 - 2 * best / (n - 1)), 0.5 * (n - 3));
    wave.chance = 1 - std::pow(1 - std::min(1.0, single), std::max(1.0, 0.5 * n));
    return wave;
}

std::string direction(double dx, double dy) {
    static const std::array<const char*, 8> names = {"the right", "the upper right", "the top",    "the upper left",
                                                     "the left",  "the lower left",  "the bottom", "the lower right"};
    const double turn = degrees(std::atan2(-dy, dx)) + 360 + 22.5;
    return names[static_cast<std::size_t>(turn / 45) % 8];
}

std::string length(double pixels, double arcsec) {
    return arcsec > 0 ? fmt::format("{:.1f} px ({:.1f}\")", pixels, pixels * arcsec) : fmt::format("{:.1f} px", pixels);
}

class Diagnosis {
public:
    Diagnosis(const std::vector<Pose>& poses, double arcsec) : poses_(poses), arcsec_(arcsec) {}

    Drift run() {
        d_.exposures = static_cast<int>(poses_.size());
        d_.hours = poses_.empty() ? 0 : (poses_.back().time - poses_.front().time) / 3600;
        constexpr std::size_t kLeast = 6;
        if (poses_.size() < kLeast) {
            d_.diagnosis.push_back("too few exposures to tell how the telescope moved");
            return d_;
        }
        if (!(d_.hours > 0)) {
            d_.diagnosis.push_back("the exposures have no times that differ, so nothing can be told of a drift");
            return d_;
        }
        for (const Pose& p : poses_) {
            t_.push_back(p.time - poses_.front().time);
            x_.push_back(p.x);
            y_.push_back(p.y);
            double turn = std::fmod(p.rotation, 180.0);
            if (turn > 90) turn -= 180;
            if (turn < -90) turn += 180;
            r_.push_back(turn);
        }
        jumps();
        rates();
        period();
        elongation();
        if (d_.diagnosis.empty())
            d_.diagnosis.push_back(d_.scatter > 2 ? fmt::format("no drift: dithered by {}", length(d_.scatter, arcsec_))
                                                  : fmt::format("steady to {}", length(d_.scatter, arcsec_)));
        return d_;
    }

private:
    void jumps() {
        constexpr double kLeast = 5; // pixels; less does no harm
        auto all = find_jumps(x_, kLeast);
        for (const std::size_t j : find_jumps(y_, kLeast))
            if (std::find(all.begin(), all.end(), j) == all.end()) all.push_back(j);
        std::sort(all.begin(), all.end());
        d_.jumps = all;
        for (const std::size_t j : all) {
            const double dx = x_[j] - x_[j - 1], dy = y_[j] - y_[j - 1];
            d_.diagnosis.push_back(fmt::format("a jump of {} towards {} before exposure {}: the telescope was knocked, "
                                               "lost its guide star or was pointed anew",
                                               length(std::hypot(dx, dy), arcsec_), direction(dx, dy), j + 1));
        }
        close_jumps(x_, all);
        close_jumps(y_, all);
    }

    void rates() {
        constexpr double kSignificant = 4; // sigma
        constexpr double kLeast = 0.5;     // pixels over the whole night
        const Line lx = fit_line(t_, x_), ly = fit_line(t_, y_), lr = fit_line(t_, r_);
        const double span = t_.back();
        const double size = std::hypot(lx.slope, ly.slope), error = std::hypot(lx.error, ly.error);
        const bool drifts = size > kSignificant * error && size * span > kLeast;
        const bool turns = std::abs(lr.slope) > kSignificant * lr.error && std::abs(lr.slope) * span > 0.01;
        std::vector<float> rest;
        for (std::size_t i = 0; i < t_.size(); ++i) {
            x_[i] -= lx.middle + lx.slope * t_[i];
            y_[i] -= ly.middle + ly.slope * t_[i];
            rest.push_back(static_cast<float>(std::hypot(x_[i], y_[i])));
        }
        d_.scatter = median(rest);
        if (turns) d_.rotation_rate = 3600 * lr.slope;
        if (drifts) {
            d_.x_rate = 3600 * lx.slope;
            d_.y_rate = 3600 * ly.slope;
        }
        constexpr double kFieldRotation = 2; // degrees an hour: more than any polar misalignment
        if (turns && std::abs(d_.rotation_rate) > kFieldRotation)
            d_.diagnosis.push_back(fmt::format(
                "the field turns by {:.1f} degrees an hour: a mount without a polar axis", d_.rotation_rate));
        else if (turns)
            d_.diagnosis.push_back(
                fmt::format("the field turns by {:.2f} degrees an hour{}: the polar axis is off", d_.rotation_rate,
                            drifts ? fmt::format(" and drifts by {} an hour", length(3600 * size, arcsec_)) : ""));
        if (drifts && !turns)
            d_.diagnosis.push_back(fmt::format("a slow drift of {} an hour towards {}: flexure, refraction, or an "
                                               "unguided mount that runs a little fast or slow",
                                               length(3600 * size, arcsec_), direction(lx.slope, ly.slope)));
    }

    void period() {
        constexpr double kChance = 1e-3, kLeast = 0.3; // pixels
        // Along the axis of the greatest scatter: periodic errors run along one axis of the mount.
        double xx = 0, xy = 0, yy = 0;
        for (std::size_t i = 0; i < t_.size(); ++i) {
            xx += x_[i] * x_[i];
            xy += x_[i] * y_[i];
            yy += y_[i] * y_[i];
        }
        const double angle = 0.5 * std::atan2(2 * xy, xx - yy);
        std::vector<double> along;
        for (std::size_t i = 0; i < t_.size(); ++i)
            along.push_back(x_[i] * std::cos(angle) + y_[i] * std::sin(angle));
        constexpr std::size_t kLeastSamples = 12;
        if (along.size() < kLeastSamples) return;
        const Wave w = strongest_period(t_, along);
        if (w.chance > kChance || w.amplitude < kLeast) return;
        d_.period = w.period;
        d_.amplitude = w.amplitude;
        d_.diagnosis.push_back(fmt::format("swings by {} every {:.0f} s: periodic error of the mount's gear",
                                           length(w.amplitude, arcsec_), w.period));
    }

    void elongation() {
        std::vector<float> e;
        for (const Pose& p : poses_)
            e.push_back(static_cast<float>(p.eccentricity));
        const double usual = median(e), scatter = spread(e);
        for (std::size_t i = 0; i < poses_.size(); ++i)
            if (poses_[i].eccentricity > std::max(0.6, usual + 3 * scatter)) d_.elongated.push_back(i);
        if (d_.elongated.empty()) return;
        std::string which;
        for (std::size_t k = 0; k < std::min<std::size_t>(5, d_.elongated.size()); ++k)
            which += fmt::format("{}{}", k ? ", " : "", d_.elongated[k] + 1);
        if (d_.elongated.size() > 5) which += ", ...";
        d_.diagnosis.push_back(fmt::format("stars are drawn out in {} of {} exposures (number {}): wind, a cable or a "
                                           "footstep",
                                           d_.elongated.size(), poses_.size(), which));
    }

    const std::vector<Pose>& poses_;
    double arcsec_;
    std::vector<double> t_, x_, y_, r_;
    Drift d_;
};

} // namespace

Drift diagnose_drift(const std::vector<Pose>& poses, double arcsec) {
    return Diagnosis(poses, arcsec).run();
}

} // namespace kasane
