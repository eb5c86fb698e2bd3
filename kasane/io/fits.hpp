// FITS (FITS Standard 4.0, IAU FITS Working Group, 2018): headers through cfitsio; pixels, where they are
// stored plainly, read and written as whole pieces or through mapped memory.
#pragma once

#include <kasane/base/output_file.hpp>
#include <kasane/io/reader.hpp>

#include <string>
#include <vector>

namespace kasane {

/// Opens the first image (primary array or first image extension). Files under gzip are decoded at the first read, into
/// the cache if there is one. Throws InputError.
std::unique_ptr<FrameReader> open_fits(const std::filesystem::path& file, PixelCache* cache = nullptr);

/// Opens the image extension named `extension` (EXTNAME). Throws InputError.
std::unique_ptr<FrameReader> open_fits(const std::filesystem::path& file, const std::string& extension);

/// Only the keywords of the first image and its size; as cheap as possible. Throws InputError as open_fits does.
FrameSummary read_fits_summary(const std::filesystem::path& file);

/// One image to write: the first becomes the primary array, others become image extensions.
struct FitsImage {
    View<const float> pixels; ///< of the first plane; others follow in memory
    Header header;            ///< keywords beside the structural ones; HISTORY cards allowed
    std::string name = {};    ///< EXTNAME
    int planes = 1;
    View<const std::uint16_t> counts = {}; ///< instead of `pixels`: 16-bit integers, each worth `unit`
    double unit = 1;
};

/// Whether a keyword says how the pixels of a file are stored (NAXIS1, BITPIX, BZERO, DATASUM, ...).
bool tells_layout(std::string_view key);

/// Writes 32-bit float images (and those of counts) with CHECKSUM and DATASUM, safely (output_file.hpp): marked by a
/// CREATOR card as Kasane's work, so that it can be replaced later, unless any file may be. Cards that tell
/// the layout are left out of a header: they are made anew. Throws OutputError, UsageError.
void write_fits(const std::filesystem::path& file, const std::vector<FitsImage>& images, Over over = Over::own_work);

/// Writes one 16-bit unsigned image (BZERO 32768), as cameras do. Throws OutputError.
void write_fits_u16(const std::filesystem::path& file, View<const std::uint16_t> pixels, const Header& header,
                    Over over = Over::own_work);

} // namespace kasane
