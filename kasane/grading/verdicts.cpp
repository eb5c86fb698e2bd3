#include <kasane/grading/verdicts.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace kasane {

std::vector<Verdict> judge_by_stars(const std::vector<const Measures*>& stack, const VerdictOptions& o) {
    std::vector<float> counts;
    for (const Measures* m : stack)
        counts.push_back(static_cast<float>(m->stars.size()));
    const double usual = counts.empty() ? 0 : median_in_place(counts);
    std::vector<Verdict> verdicts;
    for (const Measures* m : stack) {
        const auto n = static_cast<double>(m->stars.size());
        Verdict v;
        if (n < o.least_stars)
            v = {false, fmt::format("only {} stars; at least {} are needed", m->stars.size(), o.least_stars)};
        else if (stack.size() >= 3 && n < o.least_star_share * usual)
            v = {false,
                 fmt::format(
                     "only {} stars; the stack's median is {:.0f} and the limit {:.0f} (cloud, twilight or dew?)",
                     m->stars.size(), usual, o.least_star_share * usual)};
        verdicts.push_back(v);
    }
    return verdicts;
}

double information(double scale, double noise) {
    return scale > 0 && noise > 0 ? 1 / (scale * scale * noise * noise) : 0;
}

std::vector<double> worths(const std::vector<double>& informations, const std::vector<double>& seconds) {
    std::vector<double> rate(informations.size());
    for (std::size_t i = 0; i < rate.size(); ++i)
        rate[i] = seconds[i] > 0 ? informations[i] / seconds[i] : informations[i];
    const double best = rate.empty() ? 0 : *std::max_element(rate.begin(), rate.end());
    for (double& r : rate)
        r = best > 0 ? r / best : 0;
    return rate;
}

} // namespace kasane
