// The one face of every image format: a header, a size, and rectangles of pixels on demand.
//
// The room holds, beside this:
//   header.hpp        keywords of a file, in order
//   fits_file.hpp    a FITS file as it is opened: header cards, where the pixels lie
//   fits.hpp          FITS, read and written; fits_checksum.hpp  its check sums
//   formats.hpp       the other formats, each as two functions
//   decode.hpp        stored numbers to floats
//   world_coordinates.hpp  where on the sky a pixel lies
//   gzip.hpp          files under gzip
//   input_file.hpp    a file that is only read, by rows or through mapped memory
//   jpeg.hpp          JPEG for previews, and for sending
//   png.hpp           PNG for previews, and for other programs
//   picture_notes.hpp, colour_profile.hpp  what pictures say of themselves, and how their numbers are meant
//   tiff.hpp          TIFF for editors
//   memory_frame.hpp  pixels in memory behind the face of a reader
//   watched_frame.hpp a frame of which somebody learns what is read
//   file_planes.hpp   a file as a source of planes
//   pixel_cache.hpp   decoded pixels, kept on disk within a limit
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/io/header.hpp>

#include <filesystem>
#include <memory>
#include <span>
#include <string>

namespace kasane {

class PixelCache;

enum class Format { fits, tiff, png, jpeg, camera_raw };

/// "FITS", "TIFF", "PNG", "JPEG", "camera raw".
std::string_view format_name(Format format);

/// What a file says of itself without its pixels. Keywords of FITS stand in the header as they are; EXIF tags as
/// "Exif.ExposureTime", what a camera raw file says beside EXIF as "Raw.CfaPattern".
struct FrameSummary {
    Format format = Format::fits;
    Header header;
    int width = 0;
    int height = 0;
    int planes = 1;
    int bits = 0;       ///< as FITS BITPIX: 8, 16, 32, 64 integer; -32, -64 float
    bool linear = true; ///< counts are proportional to light; not so in a JPEG
};

/// Whether the check sums that a file carries agree, told by somebody who reads all of it anyway.
class SumCheck {
public:
    virtual ~SumCheck() = default;
    /// The next bytes of the file, from its first to its last: whole words of four bytes, but for the last.
    virtual void add(std::span<const std::byte> bytes) = 0;
    /// As FrameReader::check_sums, once all were added.
    virtual std::string wrong() const = 0;
};

/// An open image file. Region reads may run on several threads at once. The file is never written to.
/// Row 0 is the top row of the picture where the file says how its rows are ordered (ROWORDER), else the first stored.
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
    /// The pixels are gone through once: the system need not keep them in memory because they were read from here, at
    /// the cost of what is read again and again. A wish, before the first read.
    virtual void in_passing() const {}
    /// How many bytes of mapped memory a read of `region` touches at most.
    virtual std::uint64_t mapped_bytes(const Region&) const { return 0; }
    /// What is wrong with the check sums that the file carries (FITS CHECKSUM and DATASUM); empty where they agree or
    /// there are none. Reads the whole file.
    virtual std::string check_sums() const { return {}; }
    /// The same while the bytes of the file pass by for another reason; null where that cannot be told so.
    virtual std::unique_ptr<SumCheck> sum_check() const { return nullptr; }
};

/// True for file names whose format Kasane reads.
bool is_readable_name(const std::filesystem::path& file);

/// True for the endings that camera makers give their raw files.
bool is_camera_raw_name(const std::filesystem::path& file);

/// What the file says, as cheaply as its format allows; pixels are not read. Throws InputError as open_frame does.
FrameSummary read_summary(const std::filesystem::path& file);

/// Opens a file of any known format. Formats without random access (PNG, JPEG, camera raw, gzip, a TIFF in one
/// compressed piece) are decoded once, when pixels are first asked for: into `cache` if there is one, else into memory.
/// Throws InputError that says what is wrong with the file: missing, empty, not the format its name says, truncated,
/// no image in it.
std::unique_ptr<FrameReader> open_frame(const std::filesystem::path& file, PixelCache* cache = nullptr);

/// A frame turned clockwise by 90, 180 or 270 degrees (0: as it is). Throws UsageError for other angles.
std::unique_ptr<FrameReader> turned_frame(std::unique_ptr<FrameReader> frame, int degrees_clockwise);

/// Reads one whole plane.
Image read_plane(const FrameReader& reader, int plane = 0);

} // namespace kasane
