#include <kasane/io/input_file.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <fcntl.h>
#include <optional>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>
#include <vector>

namespace kasane {

namespace {

int open_read_only(const std::filesystem::path& file) {
    constexpr int kFlags = O_RDONLY | O_CLOEXEC | O_NONBLOCK; // a pipe must not be waited for
    int fd = ::open(file.c_str(), kFlags);
    if (fd < 0 && errno == EMFILE) { // thousands of exposures: ask for what the system allows at most, then try again
        rlimit limit{};
        getrlimit(RLIMIT_NOFILE, &limit);
        limit.rlim_cur = limit.rlim_max;
        setrlimit(RLIMIT_NOFILE, &limit);
        fd = ::open(file.c_str(), kFlags);
    }
    return fd;
}

std::string reason(int error) {
    return std::generic_category().message(error);
}

/// A stretch of mapped memory that the signal handler knows. Slots are only ever added and used again, so that the
/// handler can walk them whatever the other threads do.
struct Slot {
    std::atomic<bool> taken{true};
    std::atomic<std::uintptr_t> begin{0}; ///< 0: nothing is mapped
    std::atomic<std::size_t> size{0};
    std::atomic<bool> failed{false}; ///< a page of it could not be had
    Slot* next = nullptr;
};

// A signal handler is given nothing but an address: what it must know stands in the process's own variables.
std::atomic<Slot*> first_slot{nullptr};
struct sigaction former_action;
std::uintptr_t page_size = 4096;

/// In place of a page that could not be had. Others may be reading it: what they read is not used.
bool put_empty_page(void* at) {
    constexpr int kProtection = PROT_READ, kFlags = MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED;
#if defined(__SANITIZE_THREAD__) // would take it for a write to what they read
    return syscall(SYS_mmap, at, page_size, kProtection, kFlags, -1, 0) >= 0;
#else
    return mmap(at, page_size, kProtection, kFlags, -1, 0) != MAP_FAILED;
#endif
}

void on_bus_error(int signal, siginfo_t* info, void* context) {
    const int kept = errno;
    const auto at = reinterpret_cast<std::uintptr_t>(info->si_addr);
    for (Slot* s = first_slot.load(std::memory_order_acquire); s; s = s->next) {
        const std::uintptr_t begin = s->begin.load(std::memory_order_acquire);
        if (begin == 0 || at < begin || at - begin >= s->size.load(std::memory_order_acquire)) continue;
        void* page = reinterpret_cast<void*>(at & ~(page_size - 1));
        if (!put_empty_page(page)) break;
        s->failed.store(true, std::memory_order_release);
        errno = kept;
        return;
    }
    errno = kept;
    if (former_action.sa_flags & SA_SIGINFO) return former_action.sa_sigaction(signal, info, context);
    if (former_action.sa_handler != SIG_DFL && former_action.sa_handler != SIG_IGN)
        return former_action.sa_handler(signal);
    sigaction(SIGBUS, &former_action, nullptr); // the access is tried again, and ends as it would have without us
}

void watch_bus_errors() {
    static const bool watching = [] {
        page_size = static_cast<std::uintptr_t>(sysconf(_SC_PAGESIZE));
        struct sigaction action {};
        action.sa_sigaction = on_bus_error;
        action.sa_flags = SA_SIGINFO | SA_ONSTACK;
        sigemptyset(&action.sa_mask);
        return sigaction(SIGBUS, &action, &former_action) == 0;
    }();
    (void)watching;
}

Slot& take_slot() {
    for (Slot* s = first_slot.load(std::memory_order_acquire); s; s = s->next) {
        bool free = false;
        if (s->taken.compare_exchange_strong(free, true)) return *s;
    }
    auto* fresh = new Slot; // never deleted: the handler may be walking past
    fresh->next = first_slot.load(std::memory_order_acquire);
    while (!first_slot.compare_exchange_weak(fresh->next, fresh, std::memory_order_acq_rel)) {
    }
    return *fresh;
}

} // namespace

struct InputFile::Mapping {
    Slot& slot;
    void* data;
    std::size_t size;

    Mapping(int descriptor, std::size_t bytes, const std::filesystem::path& file) : slot(take_slot()), size(bytes) {
        watch_bus_errors();
        data = mmap(nullptr, size, PROT_READ, MAP_SHARED, descriptor, 0);
        if (data == MAP_FAILED) {
            const int failed = errno;
            slot.taken.store(false);
            throw InputError("cannot be mapped into memory: " + reason(failed), file, "Copy it to a local disk");
        }
        slot.failed.store(false);
        slot.size.store((size + page_size - 1) / page_size * page_size, std::memory_order_release);
        slot.begin.store(reinterpret_cast<std::uintptr_t>(data), std::memory_order_release);
    }
    ~Mapping() {
        slot.begin.store(0, std::memory_order_release);
        munmap(data, size);
        slot.taken.store(false, std::memory_order_release);
    }
    /// Pages do not count as used when they are given back.
    void in_passing() const { madvise(data, size, MADV_SEQUENTIAL); }
    Mapping(const Mapping&) = delete;
    Mapping& operator=(const Mapping&) = delete;
};

InputFile::InputFile(std::filesystem::path file) : file_(std::move(file)) {
    descriptor_ = open_read_only(file_);
    if (descriptor_ < 0)
        throw InputError("cannot be opened: " + reason(errno), file_,
                         "Check that the file still exists and may be read");
    struct stat info {};
    if (fstat(descriptor_, &info) != 0 || !S_ISREG(info.st_mode) || info.st_size == 0) {
        ::close(descriptor_);
        throw InputError(S_ISREG(info.st_mode) ? "is empty" : "is not a file", file_, "Copy it again, or remove it");
    }
    size_ = static_cast<std::uint64_t>(info.st_size);
}

InputFile::~InputFile() {
    mapping_.reset();
    ::close(descriptor_);
}

void InputFile::read(std::uint64_t at, std::span<std::byte> into) const {
    while (!into.empty()) {
        const ssize_t got = ::pread(descriptor_, into.data(), into.size(), static_cast<off_t>(at));
        if (got < 0 && errno == EINTR) continue;
        if (got < 0)
            throw InputError("cannot be read: " + reason(errno), file_,
                             "Check the disk and its cable, or copy the file again");
        if (got == 0)
            throw InputError("has become shorter while it was being read", file_, "Copy it again and run again");
        at += static_cast<std::uint64_t>(got);
        into = into.subspan(static_cast<std::size_t>(got));
    }
}

const std::byte* InputFile::mapped() const {
    std::call_once(once_, [&] {
        mapping_ = std::make_unique<Mapping>(descriptor_, static_cast<std::size_t>(size_), file_);
        if (passing_) mapping_->in_passing();
    });
    return static_cast<const std::byte*>(mapping_->data);
}

void InputFile::check() const {
    check(mapping_.get());
}

void InputFile::check(const Mapping* mapping) const {
    struct stat info {};
    if (fstat(descriptor_, &info) != 0 || static_cast<std::uint64_t>(info.st_size) < size_)
        throw InputError("has become shorter while it was being read", file_, "Copy it again and run again");
    if (mapping && mapping->slot.failed.load(std::memory_order_acquire))
        throw InputError("could not be read to its end: it became shorter for a while, or its disk failed", file_,
                         "Check the disk, copy the file again, and run again");
}

void InputFile::release() const {
    if (mapping_) madvise(mapping_->data, mapping_->size, MADV_DONTNEED);
}

void InputFile::look_through(const std::function<void(std::span<const std::byte>)>& look) const {
    constexpr std::uint64_t kPiece = 256 << 10; // what the processor keeps at hand
    const auto pieces = [&](const auto& show) {
        for (std::uint64_t at = 0; at < size_; at += kPiece)
            show(at, static_cast<std::size_t>(std::min(kPiece, size_ - at)));
    };
    std::optional<Mapping> mapping;
    try {
        mapping.emplace(descriptor_, static_cast<std::size_t>(size_), file_);
    } catch (const InputError&) { // file systems that map nothing
        std::vector<std::byte> block(static_cast<std::size_t>(std::min(kPiece, size_)));
        pieces([&](std::uint64_t at, std::size_t length) {
            const auto piece = std::span(block).first(length);
            read(at, piece);
            look(piece);
        });
        return;
    }
    auto* const data = static_cast<std::byte*>(mapping->data);
    mapping->in_passing();
    pieces([&](std::uint64_t at, std::size_t length) {
        look({data + at, length});
        if (mapping->slot.failed.load(std::memory_order_acquire)) check(&*mapping); // the rest would be missing as well
        madvise(data + at, length, MADV_DONTNEED); // mapped pages count as ours; no more than these: others lie behind
    });
    check(&*mapping);
}

std::string content_digest(const std::filesystem::path& file,
                           const std::function<void(std::span<const std::byte>)>& also) {
    std::error_code failed;
    if (std::filesystem::file_size(file, failed) == 0 && !failed) return digest({});
    StreamDigest all;
    InputFile(file).look_through([&](std::span<const std::byte> piece) {
        all.add(piece);
        if (also) also(piece);
    });
    return all.result();
}

void let_go(const std::filesystem::path& file) noexcept {
    const int descriptor = open_read_only(file);
    if (descriptor < 0) return;
    posix_fadvise(descriptor, 0, 0, POSIX_FADV_DONTNEED);
    ::close(descriptor);
}

void read_ahead(const std::filesystem::path& file) noexcept {
    const int descriptor = open_read_only(file);
    if (descriptor < 0) return;
    struct stat info {};
    constexpr off_t kPiece = 128 << 10; // the system takes no more than this at once to be meant
    if (fstat(descriptor, &info) == 0 && S_ISREG(info.st_mode))
        for (off_t at = 0; at < info.st_size; at += kPiece)
            if (posix_fadvise(descriptor, at, kPiece, POSIX_FADV_WILLNEED) != 0) break;
    ::close(descriptor);
}

} // namespace kasane
