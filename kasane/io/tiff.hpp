// TIFF 6.0 for editors: 16-bit whole numbers or 32-bit floats.
#pragma once

#include <kasane/io/picture_notes.hpp>

#include <filesystem>
#include <string>

namespace kasane {

enum class TiffSamples { whole_16, float_32 };

/// Writes a grey (1 plane) or RGB (3 planes) image, safely (output_file.hpp), as BigTIFF where it is larger than 4 GB,
/// marked as Kasane's work. Whole numbers are 65535 times what lies in 0 to 1, rounded, beyond that cut off, and 0
/// where there is no data; floats are as they are. Throws OutputError, UsageError.
void write_tiff(const std::filesystem::path& file, const Image& image, TiffSamples samples, const PictureNotes& notes);

} // namespace kasane
