// The work on an output, rectangle by rectangle, on all threads and within the memory budget: when, how large and how
// many at once, apart from what is done.
//
// What is done is a pass: resampling onto the canvas is one (resample_pass.hpp). A pass must give the same result for
// any rectangles, so that threads, memory and tile size do not show in it.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
#include <utility>
#include <vector>

namespace kasane {

/// Mapped pages of files count as ours: who reads tells how many bytes it touched, and all are given back before they
/// outgrow their share. Thread-safe.
class MappedMemory {
public:
    /// `release` gives back what is mapped.
    MappedMemory(std::uint64_t share, std::function<void()> release) : share_(share), release_(std::move(release)) {}
    void touched(std::uint64_t bytes) {
        if ((bytes_ += bytes) <= share_) return;
        bytes_ = 0;
        release_();
    }

private:
    std::uint64_t share_;
    std::function<void()> release_;
    std::atomic<std::uint64_t> bytes_{0};
};

class TilePass {
public:
    virtual ~TilePass() = default;
    TilePass() = default;
    TilePass(const TilePass&) = delete;
    TilePass& operator=(const TilePass&) = delete;

    /// Bytes of buffers that a rectangle of so many pixels needs while it is worked on.
    virtual std::uint64_t bytes(std::int64_t pixels) const = 0;
    /// Does one rectangle of the output. Called on many threads at once, in any order.
    virtual void run(const Region& region, MappedMemory& mapped) = 0;
    /// Gives back mapped memory.
    virtual void release() {}
};

struct TileOptions {
    int side = 128;                 ///< of a tile, pixels; made smaller where memory asks for it
    std::uint64_t result_bytes = 0; ///< of what the output takes of the budget
};

/// Runs the pass over all of `output`, advancing the progress by pixels. Throws what the pass throws, and Cancelled.
void run_tiles(TilePass& pass, const Region& output, const TileOptions& options, const Context& context);

/// Buffers of workers, handed to who works and taken back with their memory.
template <class T>
class Pool {
public:
    /// Returns to the pool when it goes.
    class Loan {
    public:
        explicit Loan(Pool& pool) : pool_(pool), item_(pool.take()) {}
        ~Loan() { pool_.give(std::move(item_)); }
        Loan(const Loan&) = delete;
        Loan& operator=(const Loan&) = delete;
        T& operator*() { return *item_; }
        T* operator->() { return item_.get(); }

    private:
        Pool& pool_;
        std::unique_ptr<T> item_;
    };
    Loan borrow() { return Loan(*this); }

private:
    std::unique_ptr<T> take() {
        const std::lock_guard lock(mutex_);
        if (free_.empty()) return std::make_unique<T>();
        auto item = std::move(free_.back());
        free_.pop_back();
        return item;
    }
    void give(std::unique_ptr<T> item) {
        const std::lock_guard lock(mutex_);
        free_.push_back(std::move(item));
    }
    std::mutex mutex_;
    std::vector<std::unique_ptr<T>> free_;
};

} // namespace kasane
