// What the targets for image files share: bytes become a file in memory, and are read as a user's file would be.
#pragma once

#include <kasane/base/error.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/io/reader.hpp>

#include <cstdint>
#include <cstdlib>
#include <fcntl.h>
#include <filesystem>
#include <string>
#include <unistd.h>

namespace kasane::fuzz {

/// Reads the summary, describes the exposure, and reads some pixels. Only errors of the library's own kind may pass.
inline void read_as_file(const std::uint8_t* data, std::size_t size, const char* ending) {
    static const std::string name = "/dev/shm/kasane-fuzz-" + std::to_string(getpid()) + ending;
    const int fd = ::open(name.c_str(), O_CREAT | O_TRUNC | O_WRONLY, 0600);
    if (fd < 0 || ::write(fd, data, size) != static_cast<ssize_t>(size)) std::abort();
    ::close(fd);
    try {
        describe_exposure(name, read_summary(name));
        const auto frame = open_frame(name);
        const Region r = intersect(frame->bounds(), {0, 0, 64, 3});
        Image part(r.width, r.height);
        for (int p = 0; p < std::min(frame->planes(), 3); ++p)
            frame->read(r, part.plane(), p);
        const Region last = intersect(frame->bounds(), {frame->width() - 3, frame->height() - 2, 3, 2});
        Image corner(last.width, last.height);
        frame->read(last, corner.plane(), frame->planes() - 1);
    } catch (const Error&) {
    }
    std::error_code ignored;
    std::filesystem::remove(name, ignored);
}

} // namespace kasane::fuzz
