// Memory behind which a file stands, for results that are larger than the memory budget.
#pragma once

#include <kasane/base/memory.hpp>

#include <algorithm>
#include <condition_variable>
#include <cstddef>
#include <cstdlib>
#include <filesystem>
#include <limits>
#include <map>
#include <memory>
#include <mutex>
#include <new>
#include <thread>
#include <type_traits>
#include <utility>

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

/// A fixed number of values: in the memory of a Scratch, or on the heap where there is none. Copies are on the heap.
template <class T>
class PixelStore {
    static_assert(std::is_trivially_copyable_v<T>);

public:
    using value_type = T;
    using iterator = T*;
    using const_iterator = const T*;

    PixelStore() = default;
    PixelStore(std::size_t size, T value, std::shared_ptr<Scratch> scratch = nullptr)
        : PixelStore(Room{}, size, std::move(scratch), is_zero(value)) {
        if (scratch_ || !is_zero(value)) std::fill_n(values_, size_, value);
    }
    PixelStore(const PixelStore& other) : PixelStore(Room{}, other.size_, nullptr, false) {
        std::copy_n(other.values_, size_, values_);
    }
    PixelStore(PixelStore&& other) noexcept { swap(other); }
    PixelStore& operator=(const PixelStore& other) {
        if (size_ == other.size_)
            std::copy_n(other.values_, size_, values_); // where it lies already
        else
            PixelStore(other).swap(*this);
        return *this;
    }
    PixelStore& operator=(PixelStore&& other) noexcept {
        PixelStore(std::move(other)).swap(*this);
        return *this;
    }
    ~PixelStore() {
        if (!values_) return;
        if (scratch_)
            scratch_->give(values_, size_ * sizeof(T));
        else if (size_ * sizeof(T) >= kOwnPages)
            give_pages(values_, size_ * sizeof(T));
        else
            std::free(values_);
    }
    void swap(PixelStore& other) noexcept {
        std::swap(size_, other.size_);
        std::swap(values_, other.values_);
        scratch_.swap(other.scratch_);
    }

    /// Null: on the heap.
    const std::shared_ptr<Scratch>& scratch() const { return scratch_; }
    std::size_t size() const { return size_; }
    bool empty() const { return size_ == 0; }
    T* data() { return values_; }
    const T* data() const { return values_; }
    T* begin() { return values_; }
    const T* begin() const { return values_; }
    T* end() { return values_ + size_; }
    const T* end() const { return values_ + size_; }
    T& operator[](std::size_t i) { return values_[i]; }
    const T& operator[](std::size_t i) const { return values_[i]; }
    friend bool operator==(const PixelStore& a, const PixelStore& b) {
        return a.size_ == b.size_ && std::equal(a.begin(), a.end(), b.begin());
    }

private:
    struct Room {};
    PixelStore(Room, std::size_t size, std::shared_ptr<Scratch> scratch, bool zero)
        : size_(size), scratch_(std::move(scratch)) {
        if (size_ == 0) return;
        if (size_ > std::numeric_limits<std::size_t>::max() / sizeof(T)) throw std::bad_alloc();
        // What the system gives is zero: large stores are touched where they are written only.
        const std::size_t bytes = size_ * sizeof(T);
        values_ = static_cast<T*>(scratch_             ? scratch_->take(bytes)
                                  : bytes >= kOwnPages ? take_pages(bytes)
                                  : zero               ? std::calloc(size_, sizeof(T))
                                                       : std::malloc(bytes));
        if (!values_) throw std::bad_alloc();
    }
    static bool is_zero(const T& value) {
        const auto* bytes = reinterpret_cast<const unsigned char*>(&value);
        return std::all_of(bytes, bytes + sizeof(T), [](unsigned char b) { return b == 0; });
    }

    std::size_t size_ = 0;
    T* values_ = nullptr;
    std::shared_ptr<Scratch> scratch_;
};

} // namespace kasane
