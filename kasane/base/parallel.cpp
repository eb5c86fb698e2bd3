#include <kasane/base/parallel.hpp>

#include <algorithm>
#include <atomic>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#include <thread>

#if defined(__SANITIZE_THREAD__)
extern "C" {
void __tsan_acquire(void* at);
void __tsan_release(void* at);
}
#endif

namespace kasane {

namespace {

/// The thread sanitizer does not see into TBB: that what was done before a loop is there within it, and afterwards what
/// was done within it, is said to it here.
void hand_over([[maybe_unused]] void* at) {
#if defined(__SANITIZE_THREAD__)
    __tsan_release(at);
#endif
}
void take_over([[maybe_unused]] void* at) {
#if defined(__SANITIZE_THREAD__)
    __tsan_acquire(at);
#endif
}

/// Hands over when it goes, by an exception too.
struct HandOver {
    void* at;
    ~HandOver() { hand_over(at); }
};

} // namespace

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
    char begun = 0, done = 0; // places for the thread sanitizer
    hand_over(&begun);
    arena_->arena.execute([&] {
        tbb::task_group_context group;
        tbb::parallel_for(
            std::size_t{0}, std::min(lanes, count),
            [&](std::size_t) {
                take_over(&begun);
                const HandOver at_the_end{&done};
                while (!group.is_group_execution_cancelled()) {
                    const std::size_t i = next.fetch_add(1);
                    if (i >= count) return;
                    cancel_.check();
                    item(i);
                }
            },
            tbb::simple_partitioner{}, group);
    });
    take_over(&done);
}

} // namespace kasane
