#include <kasane/io/tiff.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <cmath>
#include <cstdarg>
#include <cstring>
#include <fmt/format.h>
#include <memory>
#include <tiffio.h>
#include <vector>

namespace kasane {

namespace {

struct Close {
    void operator()(TIFF* t) const { TIFFClose(t); }
};

int note(TIFF*, void* reason, const char*, const char* format, va_list arguments) {
    char text[300];
    std::vsnprintf(text, sizeof text, format, arguments);
    *static_cast<std::string*>(reason) = text;
    return 1;
}

/// A row with its planes interleaved, as samples of the file.
void encode_row(const Image& image, int y, TiffSamples samples, std::byte* out) {
    const int planes = image.planes();
    for (int p = 0; p < planes; ++p) {
        const float* row = image.plane(p).row(y);
        for (int x = 0; x < image.width(); ++x) {
            const std::size_t at =
                static_cast<std::size_t>(x) * static_cast<std::size_t>(planes) + static_cast<std::size_t>(p);
            if (samples == TiffSamples::float_32) {
                std::memcpy(out + 4 * at, row + x, 4);
                continue;
            }
            const std::uint16_t whole = whole_sample(row[x], 65535);
            std::memcpy(out + 2 * at, &whole, 2);
        }
    }
}

} // namespace

void write_tiff(const std::filesystem::path& file, const Image& image, TiffSamples samples, const PictureNotes& notes) {
    if (image.empty() || (image.planes() != 1 && image.planes() != 3))
        throw UsageError("an image of this shape is no TIFF", file, {});
    const std::size_t sample = samples == TiffSamples::whole_16 ? 2 : 4;
    const std::size_t row = static_cast<std::size_t>(image.width()) * static_cast<std::size_t>(image.planes()) * sample;
    constexpr std::uint64_t kMostClassic = 0xf0000000; // bytes, room left for the directory
    const bool big = std::uint64_t{row} * static_cast<std::uint64_t>(image.height()) > kMostClassic;
    write_file_safely(file, [&](const std::filesystem::path& temporary) {
        std::string reason;
        const auto require = [&](bool well) {
            if (!well)
                throw OutputError("cannot be written" + (reason.empty() ? std::string() : " (" + reason + ")"), file,
                                  "Check that there is room on the disk");
        };
        struct FreeOptions {
            void operator()(TIFFOpenOptions* o) const { TIFFOpenOptionsFree(o); }
        };
        const std::unique_ptr<TIFFOpenOptions, FreeOptions> options(TIFFOpenOptionsAlloc());
        TIFFOpenOptionsSetErrorHandlerExtR(options.get(), note, &reason);
        std::unique_ptr<TIFF, Close> tiff(TIFFOpenExt(temporary.c_str(), big ? "wl8" : "wl", options.get()));
        require(tiff != nullptr);
        TIFF* t = tiff.get();
        constexpr std::size_t kStrip = 1 << 20; // bytes, about
        const auto rows = static_cast<std::uint32_t>(
            std::clamp<std::size_t>(kStrip / row, 1, static_cast<std::size_t>(image.height())));
        TIFFSetField(t, TIFFTAG_IMAGEWIDTH, static_cast<std::uint32_t>(image.width()));
        TIFFSetField(t, TIFFTAG_IMAGELENGTH, static_cast<std::uint32_t>(image.height()));
        TIFFSetField(t, TIFFTAG_SAMPLESPERPIXEL, image.planes());
        TIFFSetField(t, TIFFTAG_BITSPERSAMPLE, static_cast<int>(8 * sample));
        TIFFSetField(t, TIFFTAG_SAMPLEFORMAT,
                     samples == TiffSamples::whole_16 ? SAMPLEFORMAT_UINT : SAMPLEFORMAT_IEEEFP);
        TIFFSetField(t, TIFFTAG_PHOTOMETRIC, image.planes() == 3 ? PHOTOMETRIC_RGB : PHOTOMETRIC_MINISBLACK);
        TIFFSetField(t, TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG);
        TIFFSetField(t, TIFFTAG_COMPRESSION, COMPRESSION_NONE);
        TIFFSetField(t, TIFFTAG_ORIENTATION, ORIENTATION_TOPLEFT);
        TIFFSetField(t, TIFFTAG_ROWSPERSTRIP, rows);
        TIFFSetField(t, TIFFTAG_SOFTWARE, kCreator);
        if (!notes.description.empty()) TIFFSetField(t, TIFFTAG_IMAGEDESCRIPTION, notes.description.c_str());
        if (!notes.profile.empty())
            TIFFSetField(t, TIFFTAG_ICCPROFILE, static_cast<std::uint32_t>(notes.profile.size()), notes.profile.data());
        // The directory first, where is_own_work looks for the mark.
        require(TIFFDeferStrileArrayWriting(t) == 1 && TIFFWriteCheck(t, 0, "write_tiff") == 1 &&
                TIFFWriteDirectory(t) == 1 && TIFFSetDirectory(t, 0) == 1);
        std::vector<std::byte> strip(rows * row);
        for (int y = 0; y < image.height(); y += static_cast<int>(rows)) {
            const int end = std::min(image.height(), y + static_cast<int>(rows));
            for (int j = y; j < end; ++j)
                encode_row(image, j, samples, strip.data() + static_cast<std::size_t>(j - y) * row);
            const auto bytes = static_cast<tmsize_t>(static_cast<std::size_t>(end - y) * row);
            require(TIFFWriteEncodedStrip(t, static_cast<std::uint32_t>(y) / rows, strip.data(), bytes) == bytes);
        }
        require(TIFFForceStrileArrayWriting(t) == 1 && TIFFFlush(t) == 1);
    });
}

} // namespace kasane
