#include <kasane/base/file_stamp.hpp>

#include <fmt/format.h>

namespace kasane {

std::string FileStamp::text() const {
    return fmt::format("{}-{}-{}", size, modified, changed);
}

FileStamp file_stamp(const struct stat& info) {
    const auto nanoseconds = [](const timespec& t) {
        return static_cast<std::int64_t>(t.tv_sec) * 1000000000 + t.tv_nsec;
    };
    return {static_cast<std::uint64_t>(info.st_size), nanoseconds(info.st_mtim), nanoseconds(info.st_ctim)};
}

std::optional<FileStamp> file_stamp(const std::filesystem::path& file) {
    struct stat info {};
    if (stat(file.c_str(), &info) != 0) return std::nullopt;
    return file_stamp(info);
}

} // namespace kasane
