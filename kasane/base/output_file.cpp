#include <kasane/base/output_file.hpp>

#include <kasane/base/error.hpp>

#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {
constexpr const char* kTemporaryPrefix = ".kasane-part-";

std::string reason(int error) {
    if (error == ENOSPC || error == EDQUOT) return "the disk is full";
    return std::generic_category().message(error);
}

std::string remedy(int error) {
    if (error == ENOSPC || error == EDQUOT) return "Free some space and run again; finished work is kept";
    if (error == EACCES || error == EROFS || error == EPERM)
        return "Make the folder writable, or name another one with --output";
    return "Check the disk and run again; finished work is kept";
}

/// Syncs what `path` names (a file, or a folder so that a rename in it lasts).
void sync_path(const fs::path& path, int flags) {
    const int fd = ::open(path.c_str(), flags | O_CLOEXEC);
    if (fd < 0) throw OutputError(reason(errno), path, remedy(errno));
    const int failed = ::fsync(fd) != 0 ? errno : 0;
    ::close(fd);
    if (failed && failed != EINVAL) throw OutputError(reason(failed), path, remedy(failed));
}
} // namespace

void write_file_safely(const fs::path& final_path, const std::function<void(const fs::path&)>& write) {
    const fs::path folder = final_path.has_parent_path() ? final_path.parent_path() : fs::path(".");
    const fs::path temporary =
        folder / fmt::format("{}{}-{}", kTemporaryPrefix, ::getpid(), final_path.filename().string());
    std::error_code ignored;
    try {
        write(temporary);
        sync_path(temporary, O_RDWR);
        std::error_code failed;
        fs::rename(temporary, final_path, failed);
        if (failed) throw OutputError(reason(failed.value()), final_path, remedy(failed.value()));
        sync_path(folder, O_RDONLY | O_DIRECTORY);
    } catch (...) {
        fs::remove(temporary, ignored);
        throw;
    }
}

void write_text_safely(const fs::path& final_path, std::string_view text) {
    write_file_safely(final_path, [&](const fs::path& temporary) {
        const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
        if (fd < 0) throw OutputError("cannot be written: " + reason(errno), final_path, remedy(errno));
        int failed = 0;
        for (std::size_t done = 0; done < text.size() && !failed;) {
            const ssize_t n = ::write(fd, text.data() + done, text.size() - done);
            if (n < 0 && errno != EINTR) failed = errno;
            if (n > 0) done += static_cast<std::size_t>(n);
        }
        if (::close(fd) != 0 && !failed) failed = errno;
        if (failed) throw OutputError("cannot be written: " + reason(failed), final_path, remedy(failed));
    });
}

void require_writable_folder(const fs::path& folder) {
    std::error_code failed;
    fs::create_directories(folder, failed);
    if (failed)
        throw OutputError("this folder cannot be made: " + reason(failed.value()), folder, remedy(failed.value()));
    const fs::path probe = folder / fmt::format("{}{}", kTemporaryPrefix, ::getpid());
    const int fd = ::open(probe.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    if (fd < 0) throw OutputError("this folder cannot be written to: " + reason(errno), folder, remedy(errno));
    ::close(fd);
    fs::remove(probe, failed);
}

void remove_leftovers(const fs::path& folder) {
    std::error_code ignored;
    for (const auto& entry : fs::directory_iterator(folder, ignored))
        if (entry.path().filename().string().rfind(kTemporaryPrefix, 0) == 0) fs::remove(entry.path(), ignored);
}

} // namespace kasane
