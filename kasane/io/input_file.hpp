// A file that is only read: rows by reading, scattered rectangles through mapped memory.
//
// Why both: reading costs a system call for each run of bytes, which is nothing for whole rows and several times the
// work for the short rows of a tile; mapped memory costs nothing there, but its pages count as ours, and where the file
// has shrunk or its disk fails, touching them is a signal (SIGBUS) instead of an error. The first use of mapped memory
// therefore installs a handler for that signal, which puts an empty page in place of the one that could not be had
// and marks the file; `check` then throws. Signals that have other causes go to the handler that was there before.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <mutex>
#include <span>
#include <string>

namespace kasane {

/// Thread-safe. Errors are InputErrors that name the file.
class InputFile {
public:
    /// Throws InputError if the file cannot be opened, is empty or no plain file.
    explicit InputFile(std::filesystem::path file);
    ~InputFile();
    InputFile(const InputFile&) = delete;
    InputFile& operator=(const InputFile&) = delete;

    const std::filesystem::path& path() const { return file_; }
    /// When it was opened, bytes.
    std::uint64_t size() const { return size_; }

    /// Reads `into.size()` bytes from `at` on. Throws InputError if they are not there or cannot be read.
    void read(std::uint64_t at, std::span<std::byte> into) const;

    /// The whole file as mapped memory. What was read from it is good only if `check` does not throw afterwards.
    const std::byte* mapped() const;
    /// Throws InputError if any mapped page could not be had, or the file is now shorter.
    void check() const;
    /// Gives mapped pages back; they can be used again.
    void release() const;
    /// Mapped pages are gone through once: that they were used does not keep them in memory. Before `mapped`.
    void in_passing() const { passing_ = true; }

    /// Shows all bytes, from the first to the last: pieces of a whole number of 64 bytes but for the last. The system
    /// does not take them for used once more: what is read twice it keeps before what was asked for and not read yet.
    /// Throws InputError, at the latest when all were shown, if they were not those of the file.
    void look_through(const std::function<void(std::span<const std::byte>)>& look) const;

private:
    struct Mapping;
    void check(const Mapping* mapping) const;
    std::filesystem::path file_;
    int descriptor_ = -1;
    std::uint64_t size_ = 0;
    mutable std::once_flag once_;
    mutable std::unique_ptr<Mapping> mapping_;
    mutable std::atomic<bool> passing_{false};
};

/// Tells the system that a file is not read again soon: what else is read may take its place in memory. A wish.
void let_go(const std::filesystem::path& file) noexcept;

/// Digest of all bytes of a file: tells an edit that the fingerprint does not see. `also`, if given, is shown the bytes
/// too, as `look_through` does. Throws InputError.
std::string content_digest(const std::filesystem::path& file,
                           const std::function<void(std::span<const std::byte>)>& also = {});

/// Asks the system to have a file of any format in memory soon, and does not wait for it. A wish: whatever is in its
/// way is told when the file is read.
void read_ahead(const std::filesystem::path& file) noexcept;

} // namespace kasane
