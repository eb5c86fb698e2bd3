// A FITS file as cfitsio opens it: its header cards, and where its pixels lie. Internal to io/.
#pragma once

#include <kasane/io/header.hpp>

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <fitsio.h>
#include <memory>
#include <string>
#include <vector>

namespace kasane::fits_file {

struct CloseFits {
    void operator()(fitsfile* f) const {
        int status = 0;
        fits_close_file(f, &status);
    }
};
using FitsHandle = std::unique_ptr<fitsfile, CloseFits>;

/// Before any other call: cfitsio sets itself up at its first one, and not safely from several threads.
void start_cfitsio();

/// What cfitsio says of a status.
std::string fits_reason(int status);

/// By its first bytes.
bool is_gzip(const std::filesystem::path& file);

/// A file that cfitsio reads, and its bytes where it had to be unpacked first.
struct OpenFits {
    std::vector<std::byte> unpacked;
    void* memory = nullptr; ///< as cfitsio wants to know it: where the bytes are, and how many
    std::size_t memory_size = 0;
    std::uint64_t on_disk = 0;
    FitsHandle handle;

    /// Throws InputError that says what is wrong with the file.
    explicit OpenFits(const std::filesystem::path& file);
    OpenFits(OpenFits&&) = delete;
    fitsfile* get() const { return handle.get(); }
    std::uint64_t size() const { return memory ? memory_size : on_disk; }
};

/// Moves to the first HDU with a two- or three-dimensional image, or to the named one. Throws InputError.
void find_image(fitsfile* f, const std::filesystem::path& file, const std::string& name);

Header read_cards(fitsfile* f);

struct Layout {
    int bits = 0;
    int width = 0, height = 0, planes = 1;
    std::int64_t data_start = 0;
    double scale = 1, zero = 0;
    bool has_blank = false;
    std::int64_t blank = 0;
    bool compressed = false;
    bool bottom_up = false; ///< ROWORDER: the first stored row is the lowest of the picture
};

/// Throws InputError for sizes that no image has.
Layout read_layout(fitsfile* f, const std::filesystem::path& file);

/// cfitsio unpacks the tiles of a compressed image without end if one is cut short (FITS Standard 4.0, section 10.4:
/// gzip members in a table's column): each is unpacked once here, within the size of a tile. Throws InputError.
void require_sound_tiles(fitsfile* f, const std::filesystem::path& file);

/// `have`: bytes of the file, unpacked if it was. Throws InputError if it is truncated.
void require_complete(const Layout& l, const std::filesystem::path& file, std::uint64_t have);

} // namespace kasane::fits_file
