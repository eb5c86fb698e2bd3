// 8-bit JPEG for previews.
#pragma once

#include <kasane/image/image.hpp>

#include <filesystem>
#include <string>

namespace kasane {

/// A grey (1 plane) or RGB (3 planes) image as the bytes of a JPEG file. Throws OutputError.
std::string encode_jpeg(const Raster<std::uint8_t>& image, int quality = 85);

/// The same into a file, safely (output_file.hpp). Throws OutputError.
void write_jpeg(const std::filesystem::path& file, const Raster<std::uint8_t>& image, int quality = 85);

} // namespace kasane
