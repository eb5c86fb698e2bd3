#include <kasane/grading/worth.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

double information(double scale, double noise) {
    return scale > 0 && noise > 0 ? 1 / (scale * scale * noise * noise) : 0;
}

std::vector<double> worths(const std::vector<double>& informations, const std::vector<double>& seconds) {
    const bool known = std::any_of(seconds.begin(), seconds.end(), [](double s) { return s > 0; });
    std::vector<double> rate(informations.size());
    double best = 0;
    for (std::size_t i = 0; i < rate.size(); ++i) {
        rate[i] = !known           ? informations[i]
                  : seconds[i] > 0 ? informations[i] / seconds[i]
                                   : std::numeric_limits<double>::quiet_NaN();
        if (rate[i] > best) best = rate[i];
    }
    for (double& r : rate)
        if (!std::isnan(r)) r = best > 0 ? r / best : 0;
    return rate;
}

namespace {

constexpr double kFinest = 0.5, kStep = 1.03; // pixels, and from one class of widths to the next

/// Weights by classes of FWHM, so that a curve of thousands of steps costs little.
class Profile {
public:
    void add(const Contribution& c, double sign) { add(c.fwhm, c.information, sign); }
    void add(double width, double weight, double sign) {
        if (!(width > 0) || !(weight > 0)) return;
        const double place = std::max(0.0, std::log(width / kFinest) / std::log(kStep));
        const auto low = static_cast<std::size_t>(place);
        const double share = place - static_cast<double>(low);
        if (weights_.size() < low + 2) weights_.resize(low + 2, 0.0);
        weights_[low] += sign * (1 - share) * weight;
        weights_[low + 1] += sign * share * weight;
    }

    /// Full width at half maximum of the sum of Moffat profiles of unit flux; 0 if there are none.
    double fwhm() const {
        const double half = 0.5 * height(0);
        if (!(half > 0)) return 0;
        double low = 0, high = 0.5 * kFinest * std::pow(kStep, static_cast<double>(weights_.size()));
        for (int i = 0; i < 30; ++i) {
            const double r = 0.5 * (low + high);
            (height(r) > half ? low : high) = r;
        }
        return low + high;
    }

private:
    double height(double radius) const {
        constexpr double kForm = 1.0396842; // 4 (2^(1/3) - 1): the exponent is 3
        double sum = 0, width = kFinest;
        for (const double w : weights_) {
            const double base = 1 + kForm * radius * radius / (width * width);
            sum += w / (width * width * base * base * base);
            width *= kStep;
        }
        return sum;
    }
    std::vector<double> weights_;
};

struct Sum {
    Prediction now;
    double information = 0;
    Profile profile;

    void add(const Contribution& c, int sign) {
        now.frames += sign;
        now.seconds += sign * c.seconds;
        now.effective_seconds += sign * c.seconds * c.worth;
        information += sign * c.information;
        profile.add(c, sign);
    }
    Prediction result() const {
        Prediction p = now;
        const bool any = p.frames > 0 && information > 0;
        p.noise = any ? 1 / std::sqrt(information) : 0;
        p.fwhm = any ? profile.fwhm() : 0;
        return p;
    }
};

} // namespace

Prediction predict(const std::vector<Contribution>& all, const std::vector<bool>& kept) {
    Sum sum;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (kept[i]) sum.add(all[i], 1);
    return sum.result();
}

Prediction predict_with_weights(const std::vector<Contribution>& all, const std::vector<double>& weights) {
    Prediction p;
    Profile profile;
    double sum = 0, variance = 0;
    for (std::size_t i = 0; i < all.size(); ++i) {
        if (!(weights[i] > 0) || !(all[i].information > 0)) continue;
        ++p.frames;
        p.seconds += all[i].seconds;
        p.effective_seconds += all[i].seconds * all[i].worth;
        sum += weights[i];
        variance += weights[i] * weights[i] / all[i].information;
        profile.add(all[i].fwhm, weights[i], 1);
    }
    if (p.frames == 0) return p;
    p.noise = std::sqrt(variance) / sum;
    p.fwhm = profile.fwhm();
    return p;
}

std::vector<Prediction> cost_curve(const std::vector<Contribution>& all, const std::vector<bool>& kept,
                                   const std::vector<std::size_t>& order) {
    Sum sum;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (kept[i]) sum.add(all[i], 1);
    std::vector<Prediction> curve = {sum.result()};
    for (const std::size_t i : order) {
        if (!kept[i]) continue;
        sum.add(all[i], -1);
        curve.push_back(sum.result());
    }
    return curve;
}

} // namespace kasane
