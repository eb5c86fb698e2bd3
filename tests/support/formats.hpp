// Small writers of the formats that Kasane only reads.
#pragma once

#include <kasane/image/image.hpp>

#include <filesystem>

namespace kasane::test {

struct TiffOptions {
    int rows_per_strip = 8;
    int tile = 0;  ///< side of the tiles; 0: strips
    int bits = 16; ///< 8, 16, 32; -32: floats
    int planes = 1;
    bool deflate = false, big = false, separate = false;
    int orientation = 1;
};
/// With an EXIF block: 30 s at ISO 1600 on 2031-03-12 at 22:10:05 by the camera's clock.
void write_tiff(const std::filesystem::path& file, const Raster<std::uint16_t>& pixels, const TiffOptions& options);
void write_png16(const std::filesystem::path& file, const Raster<std::uint16_t>& pixels);
/// Quality 100; with a small EXIF block.
void write_jpeg(const std::filesystem::path& file, const Raster<std::uint16_t>& pixels);
void write_tile_compressed(const std::filesystem::path& from, const std::filesystem::path& to);

} // namespace kasane::test
