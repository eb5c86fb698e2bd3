#include <kasane/base/parallel.hpp>

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#include <thread>
#include <vector>

namespace kasane {

/// Where lanes of a loop run side by side.
struct Workers::Arena {
    explicit Arena(int threads) : arena(threads) {}
    tbb::task_arena arena;

    /// Calls `lane` once for each; `stopped` says within it that another has failed. Throws what the first threw.
    template <class Lane>
    void run(std::size_t lanes, const Lane& lane) {
#if defined(__SANITIZE_THREAD__) // which does not see into TBB
        std::atomic<bool> failed{false};
        std::exception_ptr first;
        std::mutex mutex;
        std::vector<std::thread> others;
        const auto attempt = [&] {
            try {
                lane([&] { return failed.load(); });
            } catch (...) {
                const std::lock_guard lock(mutex);
                if (!failed.exchange(true)) first = std::current_exception();
            }
        };
        for (std::size_t k = 1; k < lanes; ++k)
            others.emplace_back(attempt);
        attempt();
        for (std::thread& t : others)
            t.join();
        if (first) std::rethrow_exception(first);
#else
        arena.execute([&] {
            tbb::task_group_context group;
            tbb::parallel_for(
                std::size_t{0}, lanes, [&](std::size_t) { lane([&] { return group.is_group_execution_cancelled(); }); },
                tbb::simple_partitioner{}, group);
        });
#endif
    }
};

Workers::Workers(int threads, CancelToken cancel)
    : threads_(threads > 0 ? threads : std::max(1, tbb::this_task_arena::max_concurrency())),
      cancel_(std::move(cancel)) {
    arena_ = std::make_unique<Arena>(threads_);
}

Workers::~Workers() = default;

void Workers::for_each(std::size_t count, const std::function<void(std::size_t)>& item, int at_once) const {
    const auto lanes = static_cast<std::size_t>(at_once > 0 ? std::min(at_once, threads_) : threads_);
    if (std::min(lanes, count) <= 1) {
        for (std::size_t i = 0; i < count; ++i) {
            cancel_.check();
            item(i);
        }
        return;
    }
    // A shared counter hands items out in order, so that neighbours in time are neighbours on disk, and at most
    // `lanes` of them are in memory at once.
    std::atomic<std::size_t> next{0};
    arena_->run(std::min(lanes, count), [&](const auto& stopped) {
        while (!stopped()) {
            const std::size_t i = next.fetch_add(1);
            if (i >= count) return;
            cancel_.check();
            item(i);
        }
    });
}

} // namespace kasane
