// Parallel loops with a fixed number of threads, on oneTBB, that stop between items when cancelled.
#pragma once

#include <kasane/base/memory.hpp>
#include <kasane/base/progress.hpp>

#include <cstddef>
#include <filesystem>
#include <functional>
#include <memory>

namespace kasane {

/// Runs loops on `threads` threads. Results must not depend on the order of items: each item writes only its own place.
class Workers {
public:
    /// @param threads  0 means all cores of the machine
    explicit Workers(int threads = 0, CancelToken cancel = {});
    ~Workers();
    Workers(const Workers&) = delete;
    Workers& operator=(const Workers&) = delete;

    int threads() const noexcept { return threads_; }
    const CancelToken& cancel() const noexcept { return cancel_; }

    /// Calls `item(i)` for i in [0, count), at most `at_once` at a time (0: as many as there are threads).
    /// The first exception of an item ends the loop and is thrown again here. Throws Cancelled between items.
    void for_each(std::size_t count, const std::function<void(std::size_t)>& item, int at_once = 0) const;

private:
    struct Arena;
    std::unique_ptr<Arena> arena_;
    int threads_;
    CancelToken cancel_;
};

/// What every long computation is given: where to run, how much memory to use, whom to tell.
struct Context {
    const Workers& workers;
    MemoryBudget memory;
    Progress& progress;
    /// A folder where results that are larger than the memory may have files without a name; empty: in memory alone.
    std::filesystem::path scratch{};
};

} // namespace kasane
