#include <kasane/base/remaining_time.hpp>

#include <algorithm>

namespace kasane {

namespace {

/// The first word: "integrate NGC-L" is of the same kind as "integrate NGC-R".
std::string kind_of(const std::string& stage) {
    return stage.substr(0, stage.find(' '));
}
std::string rest_of(const std::string& stage) {
    const auto space = stage.find(' ');
    return space == std::string::npos ? std::string() : stage.substr(space);
}

} // namespace

void RemainingTime::expect(std::vector<StageCost> stages) {
    *this = {};
    for (StageCost& cost : stages)
        stages_.push_back({std::move(cost)});
}

void RemainingTime::leave(double now) {
    if (at_ == kNone) return;
    Stage& s = stages_[at_];
    if (s.over) {
        expected_ += s.cost.after;
        taken_ += now - left_;
    } else {
        s.spent = now - s.from;
    }
    at_ = kNone;
}

void RemainingTime::begin(const std::string& stage, std::int64_t total, double now) {
    const auto find = [&](const auto& is_same) {
        return std::find_if(stages_.begin(), stages_.end(),
                            [&](const Stage& s) { return !s.begun && is_same(s.cost.stage); });
    };
    auto it = find([&](const std::string& name) { return name == stage; });
    if (it == stages_.end() && !rest_of(stage).empty())
        it = find([&](const std::string& name) { return rest_of(name) == rest_of(stage); });
    if (it == stages_.end()) { // what belongs to the stage before it, or to none
        if (at_ != kNone && !stages_[at_].over) leave(now);
        total_ = done_ = 0;
        return;
    }
    leave(now);
    at_ = static_cast<std::size_t>(it - stages_.begin());
    for (auto before = stages_.begin(); before != it; ++before)
        before->passed = !before->begun;
    it->begun = true;
    it->passed = false;
    it->from = now;
    total_ = std::max<std::int64_t>(1, total);
    done_ = 0;
}

void RemainingTime::advance(std::int64_t units, double now) {
    if (done_ == 0) {
        first_done_ = units;
        first_ = now;
    }
    done_ += units;
}

void RemainingTime::end(double now) {
    if (at_ == kNone || stages_[at_].over || total_ == 0) return;
    Stage& s = stages_[at_];
    s.over = true;
    s.spent = now - s.from;
    left_ = now;
    expected_ += s.cost.before + s.cost.seconds;
    taken_ += s.spent;
    total_ = done_ = 0;
}

double RemainingTime::share_of(std::int64_t units) const {
    return std::clamp(static_cast<double>(units) / static_cast<double>(std::max<std::int64_t>(1, total_)), 0.0, 1.0);
}

double RemainingTime::share() const {
    return share_of(done_);
}

/// Seconds that all units of the present stage take: drawn from what is expected to what those since the first show.
double RemainingTime::units_seconds(double expected, double now) const {
    constexpr double kSoon = 0.1; // of a stage: its own pace counts half
    const double since = share() - share_of(first_done_);
    if (!(since > 0)) return expected;
    const double trust = since / (since + kSoon), own = (now - first_) / since;
    return trust * own + (1 - trust) * std::max(expected, now - first_);
}

double RemainingTime::pace_of(const Stage& stage, double now) const {
    for (std::size_t k = stages_.size(); k-- > 0;) { // the last of the kind
        const Stage& s = stages_[k];
        const double units = s.cost.before + s.cost.seconds;
        if (&s != &stage && s.over && units > 0 && kind_of(s.cost.stage) == kind_of(stage.cost.stage))
            return s.spent / units;
    }
    // What was seen so far, and a little of what was expected of everything, for the time when nothing is seen yet.
    double expected = expected_, taken = taken_, all = 0;
    for (const Stage& s : stages_)
        all += s.cost.whole();
    if (at_ != kNone && !stages_[at_].over && share() > 0) {
        expected += stages_[at_].cost.before + share() * stages_[at_].cost.seconds;
        taken += now - stages_[at_].from;
    }
    const double trust = 0.008 * all;
    return expected + trust > 0 ? (taken + trust) / (expected + trust) : 1;
}

double RemainingTime::seconds(double now) const {
    double left = 0;
    for (std::size_t k = 0; k < stages_.size(); ++k) {
        const Stage& s = stages_[k];
        if (s.passed || (s.begun && k != at_)) continue;
        const double pace = pace_of(s, now);
        const StageCost cost = s.cost * pace;
        if (k != at_) {
            left += cost.whole();
        } else if (s.over) {
            left += std::max(0.0, cost.after - (now - left_));
        } else if (share() > 0) { // between two units some of the next one is done
            left += std::max(0.0, (1 - share()) * units_seconds(cost.seconds, now)) + cost.after;
        } else {
            left += std::max(0.0, cost.before + cost.seconds - (now - s.from)) + cost.after;
        }
    }
    return left;
}

} // namespace kasane
