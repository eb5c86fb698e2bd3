// How long work of several stages will still take, from what was expected and what has been seen.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace kasane {

/// A stage as it is expected: `seconds` of it are told of by Progress::advance, `before` pass until the first of them
/// (something is tried on a part), `after` follow them until the next stage begins (a result is looked at and written).
/// What counts is how the stages compare: the speed of the machine shows.
struct StageCost {
    std::string stage; ///< as Progress::begin will name it
    double seconds = 0, after = 0, before = 0;

    double whole() const { return before + seconds + after; }
    StageCost operator*(double by) const { return {stage, by * seconds, by * after, by * before}; }
};

/// Times are seconds of any clock that does not go back. The estimate of a stage that goes on is drawn from its
/// expected cost to what its own pace says, in proportion to the share of it that is done; the expected costs of those
/// to come are scaled by what the stages so far took for what was expected of them, those of one kind (the first word
/// of the name) by the last of the kind.
class RemainingTime {
public:
    void expect(std::vector<StageCost> stages);
    /// A stage of `total` units begins. It is the first of its name, else the first of which all but the first word is
    /// the same ("drizzle NGC-L" where "integrate NGC-L" was expected); one that was not expected is work between the
    /// others. Those expected before it that have not begun are taken as not needed, until they begin.
    void begin(const std::string& stage, std::int64_t total, double now);
    void advance(std::int64_t units, double now);
    void end(double now);

    bool expects_any() const { return !stages_.empty(); }
    /// Of everything that was expected, 0 where nothing is left.
    double seconds(double now) const;

private:
    struct Stage {
        StageCost cost;
        bool begun = false, over = false; ///< over: its units are done, what follows them goes on
        bool passed = false;              ///< a later one has begun, so that it seems not to be needed
        double from = 0, spent = -1;      ///< with what was before the units; -1: not known yet
    };
    static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
    double share() const; ///< of the present stage that is done, by its units
    double share_of(std::int64_t units) const;
    double units_seconds(double expected, double now) const;
    double pace_of(const Stage& stage, double now) const;
    void leave(double now);

    std::vector<Stage> stages_;
    std::size_t at_ = kNone;
    std::int64_t total_ = 0, done_ = 0;
    std::int64_t first_done_ = 0; ///< with which the present stage began to tell of itself, at
    double first_ = 0;
    double left_ = 0;                 ///< when the units of the present stage were done
    double expected_ = 0, taken_ = 0; ///< seconds of what is behind
};

} // namespace kasane
