// 8-bit JPEG: for previews, and for sending.
#pragma once

#include <kasane/io/picture_notes.hpp>

#include <filesystem>
#include <string>

namespace kasane {

/// A grey (1 plane) or RGB (3 planes) image as the bytes of a JPEG file. Throws OutputError.
std::string encode_jpeg(const Raster<std::uint8_t>& image, int quality = 85, const PictureNotes& notes = {});

/// The same into a file, safely (output_file.hpp). Throws OutputError.
void write_jpeg(const std::filesystem::path& file, const Raster<std::uint8_t>& image, int quality = 85);

/// The same of values from 0 to 1 (whole_sample), with a profile and a description. Throws UsageError beyond 65500
/// pixels along a side, which is the most that the format holds.
void write_jpeg(const std::filesystem::path& file, const Image& image, int quality, const PictureNotes& notes);

} // namespace kasane
