// When and how large a file is, to tell whether it is still the one that was read.
#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <sys/stat.h>

namespace kasane {

/// What the file system says of a file. `changed` (the time of the last change of content, name or mode) cannot be set
/// by programs: an edit that restores size and time of the content is still seen.
struct FileStamp {
    std::uint64_t size = 0;
    std::int64_t modified = 0; ///< of the content, nanoseconds since 1970
    std::int64_t changed = 0;  ///< of anything about it, nanoseconds since 1970
    bool operator==(const FileStamp&) const = default;
    /// In one word, to be remembered.
    std::string text() const;
};

FileStamp file_stamp(const struct stat& info);
/// Nothing if the file is not there or cannot be asked for.
std::optional<FileStamp> file_stamp(const std::filesystem::path& file);

} // namespace kasane
