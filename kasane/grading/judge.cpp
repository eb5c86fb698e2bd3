#include <kasane/grading/judge.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numeric>

namespace kasane {

namespace {

bool concerns(const Limit& limit, const Candidature& c) {
    if (!limit.night.empty() && limit.night != c.night) return false;
    return limit.filters.empty() ||
           std::find(limit.filters.begin(), limit.filters.end(), c.filter) != limit.filters.end();
}

/// The first condition's reason, the others named after it; empty if the limit does not drop the exposure.
std::string dropped_by(const Limit& limit, const Candidature& c, const Distributions& d) {
    std::string reason;
    for (const Condition& condition : limit.conditions) {
        const double value = (*c.figures)[condition.measure], bound = d.bound_value(condition, c.night);
        if (!holds(condition, value, bound)) return {};
        reason += (reason.empty() ? "" : ", and ") + reason_text(condition, value, bound);
    }
    if (const std::string_view cause = measure_info(limit.conditions.front().measure).cause; !cause.empty())
        reason += fmt::format(": {}?", cause);
    return reason;
}

class Bench {
public:
    Bench(const std::vector<Candidature>& stack, const Distributions& d)
        : stack_(stack), distributions_(d), verdicts_(stack.size()), reasons_(stack.size()) {}

    void apply(const Limit& limit, int index) {
        for (std::size_t i = 0; i < stack_.size(); ++i) {
            const Candidature& c = stack_[i];
            if (!c.figures || !concerns(limit, c)) continue;
            const std::string reason = dropped_by(limit, c, distributions_);
            if (reason.empty()) continue;
            verdicts_[i].limits.push_back(index);
            if (reasons_[i].empty()) reasons_[i] = reason;
        }
    }

    void rank(const Limit& limit, int index) {
        const Ranking& r = *limit.ranking;
        std::vector<std::size_t> order;
        for (std::size_t i = 0; i < stack_.size(); ++i)
            if (stack_[i].figures && stack_[i].hindrance.empty() && verdicts_[i].limits.empty() && !stack_[i].person &&
                concerns(limit, stack_[i]))
                order.push_back(i);
        const int better = measure_info(r.by).better;
        const auto value = [&](std::size_t i) {
            const double v = (*stack_[i].figures)[r.by];
            return std::isfinite(v) ? better * v : -std::numeric_limits<double>::infinity();
        };
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return value(a) > value(b); });
        const auto wanted = static_cast<std::size_t>(
            r.percent ? std::ceil(r.count / 100 * static_cast<double>(order.size()) - 1e-9) : std::floor(r.count));
        for (std::size_t k = wanted; k < order.size(); ++k) {
            verdicts_[order[k]].limits.push_back(index);
            reasons_[order[k]] = fmt::format("{} {} is number {} of {} ({})", measure_info(r.by).name,
                                             value_text(r.by, (*stack_[order[k]].figures)[r.by]), k + 1, order.size(),
                                             limit_text(limit));
        }
    }

    std::vector<Verdict> finish() {
        for (std::size_t i = 0; i < stack_.size(); ++i) {
            const Candidature& c = stack_[i];
            Verdict& v = verdicts_[i];
            if (!c.hindrance.empty()) {
                v.keep = false;
                v.author = Author::impossible;
                v.reason = c.hindrance;
            } else if (c.person) {
                v.keep = c.person->keep;
                v.author = Author::person;
                v.reason = c.person->note.empty()
                               ? fmt::format("{} by hand", v.keep ? "kept" : "dropped")
                               : fmt::format("{} by hand: {}", v.keep ? "kept" : "dropped", c.person->note);
                if (v.keep && !reasons_[i].empty()) v.reason += fmt::format(" (although {})", reasons_[i]);
            } else if (!v.limits.empty()) {
                v.keep = false;
                v.author = Author::limit;
                v.reason = reasons_[i];
            }
        }
        return std::move(verdicts_);
    }

private:
    const std::vector<Candidature>& stack_;
    const Distributions& distributions_;
    std::vector<Verdict> verdicts_;
    std::vector<std::string> reasons_;
};

} // namespace

std::string_view author_name(Author author) {
    switch (author) {
    case Author::limit:
        return "limit";
    case Author::person:
        return "person";
    case Author::impossible:
        return "impossible";
    case Author::nobody:
        break;
    }
    return "";
}

namespace {

std::vector<Verdict> judge_alike(const std::vector<Candidature>& stack, const std::vector<Limit>& limits) {
    std::vector<const Figures*> figures;
    std::vector<std::string> nights;
    for (const Candidature& c : stack)
        if (c.figures && c.hindrance.empty()) {
            figures.push_back(c.figures);
            nights.push_back(c.night);
        }
    const Distributions distributions(figures, nights);
    Bench bench(stack, distributions);
    for (std::size_t k = 0; k < limits.size(); ++k)
        if (!limits[k].ranking) bench.apply(limits[k], static_cast<int>(k));
    for (std::size_t k = 0; k < limits.size(); ++k)
        if (limits[k].ranking) bench.rank(limits[k], static_cast<int>(k));
    return bench.finish();
}

} // namespace

std::vector<Verdict> judge(const std::vector<Candidature>& stack, const std::vector<Limit>& limits) {
    std::map<int, std::vector<std::size_t>> kinds;
    for (std::size_t i = 0; i < stack.size(); ++i)
        kinds[stack[i].kin].push_back(i);
    if (kinds.size() < 2) return judge_alike(stack, limits);
    std::vector<Verdict> out(stack.size());
    for (const auto& [kin, which] : kinds) {
        std::vector<Candidature> alike;
        for (const std::size_t i : which)
            alike.push_back(stack[i]);
        std::vector<Verdict> verdicts = judge_alike(alike, limits);
        for (std::size_t k = 0; k < which.size(); ++k)
            out[which[k]] = std::move(verdicts[k]);
    }
    return out;
}

} // namespace kasane
