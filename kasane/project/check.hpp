// Before the work: what goes with what, what is wrong or missing, and what a run will cost. And after it: what is done,
// and what has become stale.
#pragma once

#include <kasane/project/holdings.hpp>
#include <kasane/project/run.hpp>
#include <kasane/stages/scan.hpp>

#include <cstdint>
#include <string>
#include <vector>

namespace kasane {

/// What a run would take.
struct CostEstimate {
    int masters = 0, lights = 0, stacks = 0; ///< still to be made, measured, integrated
    int composites = 0;                      ///< images to be made of several master lights
    int failed = 0;                          ///< master lights that cannot be made of the files as they are
    double seconds = 0;                      ///< of work on this machine
    bool measured = false;                   ///< the estimate follows the last run here, not a usual machine
    std::uint64_t result_bytes = 0;          ///< masters, master lights, previews
    std::uint64_t cache_bytes = 0;           ///< decoded pixels of camera raw files and the like
    std::uint64_t free_bytes = 0;            ///< where the results go
    std::uint64_t memory_bytes = 0;          ///< least that the largest master light needs
    std::uint64_t budget_bytes = 0;
};

struct CheckReport {
    std::string folder, output;
    Scan scan;
    Pairing pairing;
    std::vector<Finding> findings; ///< of scan, pairing, frames and place, gravest first
    CostEstimate cost;
    bool clean() const; ///< nothing but notes
};

/// Scans and pairs as a run would, looks at the pixels of lights and flats, and tells what it finds. Only the ledger
/// is written to, and it can be missing or in use. Throws as run_project does for what would stop a run at once.
CheckReport check_project(const RunOptions& options, const Context& context);

/// What the files of a project are, and what goes with what.
struct ScannedProject {
    Scan scan;
    Pairing pairing;
};
/// Reads headers, and pixels only where nothing else tells the role. Throws as check_project does.
ScannedProject scan_project(const RunOptions& options, const Context& context);

/// One result, and whether it is what the files and the recipe ask for now.
struct ResultStatus {
    std::string name;
    std::string kind; ///< "master", "master light", "comet", "comet and stars", a composite's
    std::string file; ///< relative to the output
    enum class State { done, stale, missing, failed } state = State::missing;
    std::vector<std::string> reasons; ///< why it is stale
    int frames = 0;
    double time = 0; ///< seconds its making took
};
std::string_view state_name(ResultStatus::State state);

struct StatusReport {
    std::string folder, output;
    std::vector<ResultStatus> results;
    std::vector<std::string> leftovers; ///< results in the output that nothing asks for any more
    std::uint64_t cache_bytes = 0, cache_limit = 0;
    std::vector<Holding> holdings; ///< what is remembered beside the results
    int exposures = 0;
    bool all_done() const; ///< there are results, and all of them are done
};

/// What is done and what is stale, and why. Reads headers of new files only. Throws as check_project does.
StatusReport project_status(const RunOptions& options, const Context& context);

} // namespace kasane
