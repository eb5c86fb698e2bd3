// The one face of every image format: a header, a size, and rectangles of pixels on demand.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/io/header.hpp>

#include <filesystem>
#include <memory>

namespace kasane {

/// An open image file. Region reads may run on several threads at once. The file is never written to.
class FrameReader {
public:
    virtual ~FrameReader() = default;
    FrameReader() = default;
    FrameReader(const FrameReader&) = delete;
    FrameReader& operator=(const FrameReader&) = delete;

    virtual const std::filesystem::path& path() const = 0;
    virtual const Header& header() const = 0;
    virtual int width() const = 0;
    virtual int height() const = 0;
    virtual int planes() const = 0;
    Region bounds() const { return {0, 0, width(), height()}; }

    /// Physical values (after BZERO and BSCALE) of a rectangle, which must lie inside the image, into `out` of the
    /// same size. Throws InputError if the file has vanished or shrunk since it was opened.
    virtual void read(const Region& region, View<float> out, int plane = 0) const = 0;

    /// Gives back memory that reading has mapped; reading on is always possible.
    virtual void release() const {}
    /// How many bytes of mapped memory a read of `region` touches at most.
    virtual std::uint64_t mapped_bytes(const Region&) const { return 0; }
};

/// True for file names whose format Kasane reads.
bool is_readable_name(const std::filesystem::path& file);

/// Opens a file of any known format. Throws InputError that says what is wrong with it: missing, empty, not the format
/// its name says, truncated, no image in it.
std::unique_ptr<FrameReader> open_frame(const std::filesystem::path& file);

/// Reads one whole plane.
Image read_plane(const FrameReader& reader, int plane = 0);

} // namespace kasane
