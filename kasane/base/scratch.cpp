#include <kasane/base/scratch.hpp>

#include <kasane/base/error.hpp>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdio>
#include <fcntl.h>
#include <fmt/format.h>
#include <string>
#include <sys/mman.h>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// A file descriptor that is closed.
struct Handle {
    int value = -1;
    ~Handle() {
        if (value >= 0) ::close(value);
    }
};

/// A new file that no folder names.
int nameless_file(const fs::path& folder) {
    constexpr int kOwnerAlone = 0600;
    const int direct = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, kOwnerAlone);
    if (direct >= 0 || (errno != EOPNOTSUPP && errno != EISDIR && errno != EINVAL)) return direct;
    std::string name = (folder / ".kasane-part-scratch-XXXXXX").string(); // some file systems know no other way
    const int named = ::mkostemp(name.data(), O_CLOEXEC);
    if (named >= 0) ::unlink(name.c_str());
    return named;
}

/// Resident bytes of this process, by an open /proc/self/statm: asked for hundreds of times a second.
std::uint64_t resident(int statm) {
    char text[128];
    const ssize_t read = ::pread(statm, text, sizeof text - 1, 0);
    if (read <= 0) return 0;
    text[read] = 0;
    unsigned long long all = 0, here = 0;
    return std::sscanf(text, "%llu %llu", &all, &here) == 2 ? here * static_cast<std::uint64_t>(sysconf(_SC_PAGESIZE))
                                                            : 0;
}

} // namespace

Scratch::Scratch(fs::path folder, MemoryBudget budget) : folder_(std::move(folder)), budget_(budget) {
    watch_ = std::jthread([this](const std::stop_token& token) {
        constexpr auto kOften = std::chrono::milliseconds(2);
        constexpr double kFull = 0.85; // of the budget
        const Handle pages{::open("/proc/self/statm", O_RDONLY | O_CLOEXEC)};
        std::mutex idle;
        std::unique_lock lock(idle);
        while (!token.stop_requested()) {
            changed_.wait_for(lock, token, kOften, [] { return false; });
            if (static_cast<double>(resident(pages.value)) > kFull * static_cast<double>(budget_.bytes)) release();
        }
    });
}

Scratch::~Scratch() {
    watch_.request_stop();
    watch_.join();
    for (const auto& [block, bytes] : blocks_)
        ::munmap(block, bytes);
}

void* Scratch::take(std::size_t bytes) {
    const std::size_t size = std::max<std::size_t>(1, bytes);
    const auto fail = [&](int error) {
        const std::string why =
            error == ENOSPC || error == EDQUOT ? "the disk is full" : std::generic_category().message(error);
        throw OutputError(fmt::format("{} cannot be set aside there for a result that is larger than the memory: {}",
                                      size_text(size), why),
                          folder_, "Free some space, name another place with --output, or give more with --memory");
    };
    const Handle file{nameless_file(folder_)};
    if (file.value < 0) fail(errno);
    // Room on the disk now, so that no write into the pages can fail for want of it.
    if (const int error = ::posix_fallocate(file.value, 0, static_cast<off_t>(size))) fail(error);
    void* const block = ::mmap(nullptr, size, PROT_READ | PROT_WRITE, MAP_SHARED, file.value, 0);
    if (block == MAP_FAILED) fail(errno);
    const std::lock_guard lock(mutex_);
    blocks_[block] = size;
    return block;
}

void Scratch::give(void* block, std::size_t bytes) noexcept {
    const std::lock_guard lock(mutex_);
    blocks_.erase(block);
    ::munmap(block, std::max<std::size_t>(1, bytes));
}

void Scratch::release() noexcept {
    const std::lock_guard lock(mutex_);
    for (const auto& [block, bytes] : blocks_)
        ::madvise(block, bytes, MADV_DONTNEED); // of a shared file: what was written stays with the file
}

} // namespace kasane
