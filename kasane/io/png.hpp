// 8-bit PNG for previews.
#pragma once

#include <kasane/image/image.hpp>

#include <filesystem>

namespace kasane {

/// Writes a grey (1 plane) or RGB (3 planes) image, safely (output_file.hpp), with a Software chunk that marks it as
/// Kasane's work. Throws OutputError, UsageError.
void write_png(const std::filesystem::path& file, const Raster<std::uint8_t>& image);

} // namespace kasane
