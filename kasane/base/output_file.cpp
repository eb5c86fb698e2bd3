#include <kasane/base/output_file.hpp>

#include <kasane/base/error.hpp>

#include <cerrno>
#include <charconv>
#include <csignal>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <fstream>
#include <sstream>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

const char* const kCreator = "Kasane " KASANE_VERSION;

namespace {
constexpr const char* kTemporaryPrefix = ".kasane-part-";

std::string reason(int error) {
    if (error == ENOSPC || error == EDQUOT) return "the disk is full";
    return std::generic_category().message(error);
}

constexpr const char* kOtherFile = "Make its folder writable, or choose another place";
constexpr const char* kOtherFolder = "Make the folder writable, or name another one with --output";

std::string remedy(int error, const char* elsewhere = kOtherFile) {
    if (error == ENOSPC || error == EDQUOT) return "Free some space and run again; finished work is kept";
    if (error == EACCES || error == EROFS || error == EPERM) return elsewhere;
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

bool is_own_work(const fs::path& file) {
    constexpr std::size_t kLooked = 16 << 10; // bytes; marks stand early
    const int fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0) return false;
    std::string head(kLooked, '\0');
    const ssize_t got = ::read(fd, head.data(), head.size());
    ::close(fd);
    head.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
    const auto holds = [&](std::string_view mark) { return head.find(mark) != std::string::npos; };
    if (head.starts_with("SIMPLE")) return holds("CREATOR = 'Kasane ");
    if (head.starts_with("\x89PNG")) return holds(std::string_view("tEXtSoftware\0Kasane ", 20));
    if (head.starts_with("\xff\xd8")) return holds("Kasane ");
    // TIFF with its directory first, as ours alone has it: an editor that keeps our mark writes its own last.
    if (head.starts_with(std::string_view("II*\0\x08\0\0\0", 8)) ||
        head.starts_with(std::string_view("II+\0\x08\0\0\0\x10\0\0\0\0\0\0\0", 16)))
        return holds("Kasane ");
    if (head.starts_with("<!doctype html>")) return holds(kPageMark);
    if (head.starts_with("<svg ")) return holds(kPageMark);
    return head.starts_with(kReportMark) || head.starts_with(kTableMark) || head.starts_with(kJsonMark);
}

std::optional<std::string> content_of(const fs::path& file) {
    std::error_code failed;
    if (!fs::exists(file, failed)) return std::nullopt;
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) throw InputError("cannot be read", file, "Check that the file may be read");
    return text.str();
}

void require_replaceable(const fs::path& file) {
    std::error_code failed;
    if (!fs::exists(fs::symlink_status(file, failed)) || is_own_work(file)) return;
    throw UsageError(fs::is_directory(file, failed) ? "is a folder; a result would have this name"
                                                    : "is there already, and Kasane did not write it",
                     file, "Nothing was replaced; name another file, or move this one away");
}

void write_file_safely(const fs::path& final_path, const std::function<void(const fs::path&)>& write, Over over) {
    if (over == Over::own_work) require_replaceable(final_path);
    const fs::path folder = final_path.has_parent_path() ? final_path.parent_path() : fs::path(".");
    const fs::path temporary =
        folder / fmt::format("{}{}-{}", kTemporaryPrefix, ::getpid(), final_path.filename().string());
    std::error_code ignored;
    try {
        write(temporary);
        sync_path(temporary, O_RDONLY); // a copy may be read-only, as its original is
        std::error_code failed;
        fs::rename(temporary, final_path, failed);
        if (failed) throw OutputError(reason(failed.value()), final_path, remedy(failed.value()));
        sync_path(folder, O_RDONLY | O_DIRECTORY);
    } catch (...) {
        fs::remove(temporary, ignored);
        throw;
    }
}

void write_text_safely(const fs::path& final_path, std::string_view text, Over over) {
    const auto write = [&](const fs::path& temporary) {
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
    };
    write_file_safely(final_path, write, over);
}

void require_writable_folder(const fs::path& folder) {
    std::error_code failed;
    fs::create_directories(folder, failed);
    if (failed)
        throw OutputError("this folder cannot be made: " + reason(failed.value()), folder,
                          remedy(failed.value(), kOtherFolder));
    const fs::path probe = folder / fmt::format("{}{}", kTemporaryPrefix, ::getpid());
    const int fd = ::open(probe.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    if (fd < 0)
        throw OutputError("this folder cannot be written to: " + reason(errno), folder, remedy(errno, kOtherFolder));
    ::close(fd);
    fs::remove(probe, failed);
}

namespace {

/// Whether a temporary name is that of a process that still runs.
bool still_written(const std::string& name) {
    const char* first = name.data() + std::strlen(kTemporaryPrefix);
    long process = 0;
    const auto [end, error] = std::from_chars(first, name.data() + name.size(), process);
    if (error != std::errc{} || process <= 0 || process == ::getpid()) return false;
    if (::kill(static_cast<pid_t>(process), 0) != 0 && errno != EPERM) return false;
    // One that was killed answers until its parent has asked for it, but has no program any more.
    char program[8];
    if (::readlink(fmt::format("/proc/{}/exe", process).c_str(), program, sizeof program) >= 0 || errno != ENOENT)
        return true;
    return ::readlink("/proc/self/exe", program, sizeof program) < 0; // where that cannot be told
}

void remove_leftover(const fs::directory_entry& entry) {
    const std::string name = entry.path().filename().string();
    std::error_code ignored;
    if (name.starts_with(kTemporaryPrefix) && !still_written(name)) fs::remove(entry.path(), ignored);
}

} // namespace

void remove_leftovers(const fs::path& folder, Depth depth) {
    std::error_code failed;
    if (depth == Depth::folder_alone) {
        for (auto it = fs::directory_iterator(folder, failed); !failed && it != fs::directory_iterator();
             it.increment(failed))
            remove_leftover(*it);
        return;
    }
    for (auto it = fs::recursive_directory_iterator(folder, failed);
         !failed && it != fs::recursive_directory_iterator(); it.increment(failed))
        remove_leftover(*it);
}

} // namespace kasane
