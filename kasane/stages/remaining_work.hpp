// What a run still has to do, and what it will cost.
#pragma once

#include <kasane/base/remaining_time.hpp>
#include <kasane/stages/integrate.hpp>
#include <kasane/stages/session.hpp>

#include <cstdint>
#include <optional>
#include <vector>

namespace kasane {

/// What a run still has to do.
struct Work {
    int masters = 0, lights = 0, stacks = 0;
    int composites = 0;              ///< of finished master lights
    std::vector<StackReport> failed; ///< that cannot be made of the files as they are
    /// As the run will go through them; on one core of a usual machine.
    std::vector<StageCost> stages;
    double report_seconds = 0; ///< the same of looking at all results afterwards
    std::uint64_t result_bytes = 0, cache_bytes = 0, memory_bytes = 0;

    double core_seconds() const;
};
Work remaining_work(Session& session);
/// Fills session.masters as if all were made: what they would be keyed by is known before.
void assume_masters(Session& session);
/// Where the least that a master light needs is more than the budget.
std::optional<Finding> memory_finding(const Session& session, const Work& work);
/// How this machine compares with the usual one, from an earlier run; nothing where none was long enough to tell.
std::optional<double> known_speed(const Session& session);
/// The same, for the next estimate.
void remember_speed(Session& session, const Work& done, double seconds);

} // namespace kasane
