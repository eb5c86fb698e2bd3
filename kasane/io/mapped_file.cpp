#include <kasane/io/mapped_file.hpp>

#include <kasane/base/error.hpp>

#include <cerrno>
#include <fcntl.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

namespace kasane {

namespace {
int open_read_only(const std::filesystem::path& file) {
    int fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0 && errno == EMFILE) { // thousands of exposures: ask for what the system allows at most, then try again
        rlimit limit{};
        getrlimit(RLIMIT_NOFILE, &limit);
        limit.rlim_cur = limit.rlim_max;
        setrlimit(RLIMIT_NOFILE, &limit);
        fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
    }
    return fd;
}
} // namespace

MappedFile::MappedFile(std::filesystem::path file) : file_(std::move(file)) {
    descriptor_ = open_read_only(file_);
    if (descriptor_ < 0)
        throw InputError("cannot be opened: " + std::generic_category().message(errno), file_,
                         "Check that the file still exists and may be read");
    struct stat info {};
    if (fstat(descriptor_, &info) != 0 || !S_ISREG(info.st_mode) || info.st_size == 0) {
        ::close(descriptor_);
        throw InputError(S_ISREG(info.st_mode) ? "is empty" : "is not a file", file_, "Copy it again, or remove it");
    }
    size_ = static_cast<std::size_t>(info.st_size);
    void* p = mmap(nullptr, size_, PROT_READ, MAP_SHARED, descriptor_, 0);
    if (p == MAP_FAILED) {
        const int failed = errno;
        ::close(descriptor_);
        throw InputError("cannot be mapped into memory: " + std::generic_category().message(failed), file_,
                         "Copy it to a local disk");
    }
    data_ = static_cast<const std::byte*>(p);
}

MappedFile::~MappedFile() {
    munmap(const_cast<std::byte*>(data_), size_);
    ::close(descriptor_);
}

void MappedFile::release() const {
    madvise(const_cast<std::byte*>(data_), size_, MADV_DONTNEED);
}

void MappedFile::check_still_whole() const {
    struct stat info {};
    if (fstat(descriptor_, &info) != 0 || static_cast<std::size_t>(info.st_size) < size_)
        throw InputError("has become shorter while it was being read", file_, "Copy it again and run again");
}

} // namespace kasane
