// PNG: 8 bits for previews, 8 or 16 for other programs.
#pragma once

#include <kasane/io/picture_notes.hpp>

#include <filesystem>

namespace kasane {

/// Writes a grey (1 plane) or RGB (3 planes) image, safely (output_file.hpp), with a Software chunk that marks it as
/// Kasane's work. Throws OutputError, UsageError.
void write_png(const std::filesystem::path& file, const Raster<std::uint8_t>& image);

/// The same of values from 0 to 1 (whole_sample), with 8 or 16 bits, a profile and a description.
void write_png(const std::filesystem::path& file, const Image& image, int bits, const PictureNotes& notes);

} // namespace kasane
