// Memory behind which a file stands, for results that are larger than the memory budget.
#pragma once

#include <kasane/base/memory.hpp>

#include <condition_variable>
#include <cstddef>
#include <filesystem>
#include <map>
#include <memory>
#include <mutex>
#include <new>
#include <thread>

namespace kasane {

/// Blocks of memory that are pages of files without a name: gone with the process, however it ends. A thread gives
/// their pages back to the system, which keeps what was written to them, as soon as the process outgrows its budget.
/// Thread-safe. Other processes never see any of it.
class Scratch {
public:
    /// Of files in `folder`; `budget` is that of the whole process.
    Scratch(std::filesystem::path folder, MemoryBudget budget);
    ~Scratch();
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;

    /// Throws OutputError where the disk has not so much room, or no such file can be made there.
    void* take(std::size_t bytes);
    void give(void* block, std::size_t bytes) noexcept;
    /// Gives all pages back; they are read again where they are asked for.
    void release() noexcept;

private:
    std::filesystem::path folder_;
    MemoryBudget budget_;
    std::mutex mutex_; ///< of blocks_
    std::map<void*, std::size_t> blocks_;
    std::condition_variable_any changed_;
    std::jthread watch_;
};

/// Memory for pixels: of a Scratch, or of the heap where there is none. Copies of what it holds are on the heap.
template <class T>
class PixelAllocator {
public:
    using value_type = T;
    using propagate_on_container_move_assignment = std::true_type;
    using propagate_on_container_swap = std::true_type;
    using is_always_equal = std::false_type;

    PixelAllocator() = default;
    explicit PixelAllocator(std::shared_ptr<Scratch> scratch) : scratch_(std::move(scratch)) {}
    template <class U>
    PixelAllocator(const PixelAllocator<U>& other) : scratch_(other.scratch()) {}

    T* allocate(std::size_t count) {
        return scratch_ ? static_cast<T*>(scratch_->take(count * sizeof(T))) : std::allocator<T>().allocate(count);
    }
    void deallocate(T* block, std::size_t count) noexcept {
        if (scratch_)
            scratch_->give(block, count * sizeof(T));
        else
            std::allocator<T>().deallocate(block, count);
    }
    PixelAllocator select_on_container_copy_construction() const { return {}; }
    const std::shared_ptr<Scratch>& scratch() const { return scratch_; }
    friend bool operator==(const PixelAllocator& a, const PixelAllocator& b) { return a.scratch_ == b.scratch_; }

private:
    std::shared_ptr<Scratch> scratch_;
};

} // namespace kasane
