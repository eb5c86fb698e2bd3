#include <kasane/grading/stack_growth.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace kasane {

namespace {

/// By which the noise changes where `more` comes to `effective`, relative.
double change(double effective, double more) {
    return effective > 0 && more > 0 ? std::sqrt(effective / (effective + more)) - 1 : 0;
}

} // namespace

StackGrowth growth_of(const std::vector<GrowthLight>& lights, double noise) {
    StackGrowth out;
    std::map<std::string, NightGain> nights;
    double seconds = 0, effective = 0;
    for (const GrowthLight& l : lights) {
        if (!(l.seconds > 0) || !(l.worth > 0)) continue;
        NightGain& n = nights[l.night];
        n.night = l.night;
        ++n.lights;
        n.seconds += l.seconds, seconds += l.seconds;
        n.effective += l.seconds * l.worth, effective += l.seconds * l.worth;
    }
    if (!(effective > 0)) return out;
    std::vector<double> each;
    double seconds_until = 0, effective_until = 0;
    for (auto& [name, n] : nights) {
        n.seconds_until = seconds_until += n.seconds;
        n.effective_until = effective_until += n.effective;
        n.noise = noise * std::sqrt(effective / effective_until);
        each.push_back(n.effective);
        out.nights.push_back(n);
    }
    out.worth = effective / seconds;
    std::sort(each.begin(), each.end());
    const std::size_t half = each.size() / 2;
    const double usual = each.size() % 2 ? each[half] : 0.5 * (each[half - 1] + each[half]);
    constexpr double kTwoHours = 7200; // seconds
    out.best_night = change(effective, each.back());
    out.usual_night = change(effective, usual);
    out.two_hours = change(effective, kTwoHours * out.worth);
    return out;
}

double limiting_flux(double noise, double fwhm) {
    constexpr double kSigmas = 5;
    return noise > 0 && fwhm > 0 ? kSigmas * noise * std::sqrt(kPi / 4) * fwhm : 0;
}

double limiting_magnitude(double noise, double fwhm, double zero_point) {
    const double flux = limiting_flux(noise, fwhm);
    if (!(flux > 0) || zero_point == 0) return std::numeric_limits<double>::quiet_NaN();
    return zero_point - 2.5 * std::log10(flux);
}

} // namespace kasane
