// The formats behind reader.hpp, each as two functions: what a file says, and all of its pixels. Internal to io/.
#pragma once

#include <kasane/io/pixel_cache.hpp>
#include <kasane/io/reader.hpp>

#include <cstdint>
#include <functional>

namespace kasane {

/// Anything wider or higher is a damaged header; pixels.
inline constexpr int kLargestSide = 200000;
/// Whole-file formats beyond this many samples are refused: no camera makes them, damaged headers do.
inline constexpr std::int64_t kMostSamples = 2'000'000'000;

FrameSummary tiff_summary(const std::filesystem::path& file);
std::unique_ptr<FrameReader> open_tiff(const std::filesystem::path& file, PixelCache* cache);

FrameSummary png_summary(const std::filesystem::path& file);
Decoded decode_png(const std::filesystem::path& file);

FrameSummary jpeg_summary(const std::filesystem::path& file);
Decoded decode_jpeg(const std::filesystem::path& file);

FrameSummary camera_raw_summary(const std::filesystem::path& file);
Decoded decode_camera_raw(const std::filesystem::path& file);

/// A reader that decodes the whole file at the first read.
std::unique_ptr<FrameReader> open_decoded(const std::filesystem::path& file, FrameSummary summary,
                                          std::function<Decoded()> decode, PixelCache* cache);

/// Adds the tags of an EXIF block ("Exif\0\0" and a TIFF structure), as they stand in JPEG and PNG files.
void add_exif(Header& header, const unsigned char* data, std::size_t size);

/// Throws InputError unless the size is one a camera could make.
void require_plausible_size(const std::filesystem::path& file, std::int64_t width, std::int64_t height,
                            std::int64_t planes);

} // namespace kasane
