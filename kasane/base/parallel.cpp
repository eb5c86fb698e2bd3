#include <kasane/base/parallel.hpp>

#include <algorithm>
#include <atomic>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#include <thread>

namespace kasane {

struct Workers::Arena {
    explicit Arena(int threads) : arena(threads) {}
    tbb::task_arena arena;
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
    arena_->arena.execute([&] {
        tbb::task_group_context group;
        tbb::parallel_for(
            std::size_t{0}, std::min(lanes, count),
            [&](std::size_t) {
                while (!group.is_group_execution_cancelled()) {
                    const std::size_t i = next.fetch_add(1);
                    if (i >= count) return;
                    cancel_.check();
                    item(i);
                }
            },
            tbb::simple_partitioner{}, group);
    });
}

} // namespace kasane
