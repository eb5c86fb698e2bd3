// Loaded before the C library: makes the n-th call of a kind fail, on files below one folder. For tests only.
//
//   KASANE_FAULT=read:17      which; kinds are read, write, sync, rename, allocate. 0: none fails
//   KASANE_FAULT_IN=/folder   calls on other files are neither counted nor failed
//   KASANE_FAULT_STALLS=1     a read that would fail never comes back instead
//   KASANE_FAULT_KILLS=1      the program is killed instead, before the call
//   KASANE_FAULT_COUNT=/file  where the number of calls of that kind is written at the end
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <dlfcn.h>
#include <new>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

namespace {

struct Plan {
    char kind[16] = {};
    long wanted = 0;
    const char* folder = nullptr;
    std::atomic<long> calls{0};
    Plan() {
        folder = std::getenv("KASANE_FAULT_IN");
        if (const char* text = std::getenv("KASANE_FAULT")) std::sscanf(text, "%15[a-z]:%ld", kind, &wanted);
    }
    ~Plan() {
        const char* file = std::getenv("KASANE_FAULT_COUNT");
        if (!file) return;
        kind[0] = 0; // what is written here does not count
        if (std::FILE* f = std::fopen(file, "w")) {
            std::fprintf(f, "%ld\n", calls.load());
            std::fclose(f);
        }
    }
    bool concerns(const char* what) const { return std::strcmp(kind, what) == 0; }
    bool is_next() {
        const bool next = ++calls == wanted;
        if (next && std::getenv("KASANE_FAULT_KILLS")) ::kill(::getpid(), SIGKILL);
        return next;
    }
};

Plan& plan() {
    static Plan p;
    return p;
}

bool inside(const char* path) {
    const char* folder = plan().folder;
    return folder && path && std::strncmp(path, folder, std::strlen(folder)) == 0;
}

bool inside(int descriptor) {
    char link[40], path[4096];
    std::snprintf(link, sizeof link, "/proc/self/fd/%d", descriptor);
    const ssize_t n = ::readlink(link, path, sizeof path - 1);
    if (n <= 0) return false;
    path[n] = 0;
    return inside(path);
}

bool fails(const char* kind, int descriptor) {
    if (!plan().concerns(kind) || !inside(descriptor) || !plan().is_next()) return false;
    if (std::getenv("KASANE_FAULT_STALLS"))
        for (;;)
            ::pause();
    return true;
}

template <class F>
F next(const char* name) {
    return reinterpret_cast<F>(dlsym(RTLD_NEXT, name));
}

} // namespace

extern "C" {

ssize_t read(int fd, void* to, size_t n) {
    static const auto real = next<ssize_t (*)(int, void*, size_t)>("read");
    if (fails("read", fd)) return errno = EIO, -1;
    return real(fd, to, n);
}
ssize_t pread(int fd, void* to, size_t n, off_t at) {
    static const auto real = next<ssize_t (*)(int, void*, size_t, off_t)>("pread");
    if (fails("read", fd)) return errno = EIO, -1;
    return real(fd, to, n, at);
}
ssize_t pread64(int fd, void* to, size_t n, off64_t at) {
    static const auto real = next<ssize_t (*)(int, void*, size_t, off64_t)>("pread64");
    if (fails("read", fd)) return errno = EIO, -1;
    return real(fd, to, n, at);
}
ssize_t readv(int fd, const struct iovec* parts, int n) {
    static const auto real = next<ssize_t (*)(int, const struct iovec*, int)>("readv");
    if (fails("read", fd)) return errno = EIO, -1;
    return real(fd, parts, n);
}
size_t fread(void* to, size_t size, size_t n, FILE* f) {
    static const auto real = next<size_t (*)(void*, size_t, size_t, FILE*)>("fread");
    if (fails("read", fileno(f))) return errno = EIO, 0;
    return real(to, size, n, f);
}
ssize_t write(int fd, const void* from, size_t n) {
    static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
    if (fails("write", fd)) return errno = ENOSPC, -1;
    return real(fd, from, n);
}
ssize_t pwrite(int fd, const void* from, size_t n, off_t at) {
    static const auto real = next<ssize_t (*)(int, const void*, size_t, off_t)>("pwrite");
    if (fails("write", fd)) return errno = ENOSPC, -1;
    return real(fd, from, n, at);
}
ssize_t pwrite64(int fd, const void* from, size_t n, off64_t at) {
    static const auto real = next<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64");
    if (fails("write", fd)) return errno = ENOSPC, -1;
    return real(fd, from, n, at);
}
size_t fwrite(const void* from, size_t size, size_t n, FILE* f) {
    static const auto real = next<size_t (*)(const void*, size_t, size_t, FILE*)>("fwrite");
    if (fails("write", fileno(f))) return errno = ENOSPC, 0;
    return real(from, size, n, f);
}
int fsync(int fd) {
    static const auto real = next<int (*)(int)>("fsync");
    if (fails("sync", fd)) return errno = EIO, -1;
    return real(fd);
}
int fdatasync(int fd) {
    static const auto real = next<int (*)(int)>("fdatasync");
    if (fails("sync", fd)) return errno = EIO, -1;
    return real(fd);
}
int rename(const char* from, const char* to) {
    static const auto real = next<int (*)(const char*, const char*)>("rename");
    if (plan().concerns("rename") && inside(to) && plan().is_next()) return errno = EIO, -1;
    return real(from, to);
}

} // extern "C"

/// Buffers of pixels; what is smaller would be thousands.
void* operator new(std::size_t size) {
    constexpr std::size_t kBuffer = 32 << 10;
    if (size >= kBuffer && plan().concerns("allocate") && plan().is_next()) throw std::bad_alloc();
    if (void* p = std::malloc(size ? size : 1)) return p;
    throw std::bad_alloc();
}
void operator delete(void* p) noexcept {
    std::free(p);
}
void operator delete(void* p, std::size_t) noexcept {
    std::free(p);
}
