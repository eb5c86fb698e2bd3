#include <kasane/io/png.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <png.h>
#include <string>
#include <vector>
#include <zlib.h>

namespace kasane {

namespace {

std::string big_endian(std::uint32_t v) {
    return {static_cast<char>(v >> 24), static_cast<char>(v >> 16), static_cast<char>(v >> 8), static_cast<char>(v)};
}

/// A tEXt chunk (PNG specification, third edition, 11.3.3.2).
std::string text_chunk(const std::string& key, const std::string& value) {
    const std::string body = "tEXt" + key + std::string(1, '\0') + value;
    const auto sum = crc32(0, reinterpret_cast<const Bytef*>(body.data()), static_cast<uInt>(body.size()));
    return big_endian(static_cast<std::uint32_t>(body.size() - 4)) + body + big_endian(static_cast<std::uint32_t>(sum));
}

} // namespace

void write_png(const std::filesystem::path& file, const Raster<std::uint8_t>& image) {
    const int channels = image.planes() == 3 ? 3 : 1;
    std::vector<std::uint8_t> interleaved(static_cast<std::size_t>(image.bounds().area() * channels));
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x)
            for (int c = 0; c < channels; ++c)
                interleaved[(static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width()) +
                             static_cast<std::size_t>(x)) *
                                static_cast<std::size_t>(channels) +
                            static_cast<std::size_t>(c)] = image(x, y, c);
    png_image info{};
    info.version = PNG_IMAGE_VERSION;
    info.width = static_cast<png_uint_32>(image.width());
    info.height = static_cast<png_uint_32>(image.height());
    info.format = channels == 3 ? PNG_FORMAT_RGB : PNG_FORMAT_GRAY;
    png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(info);
    std::string bytes(size, '\0');
    if (!png_image_write_to_memory(&info, bytes.data(), &size, 0, interleaved.data(), 0, nullptr))
        throw OutputError(std::string("the preview cannot be encoded: ") + info.message, file, {});
    bytes.resize(size);
    constexpr std::size_t kSignatureAndSize = 8 + 25; // bytes, IHDR is the first chunk
    bytes.insert(kSignatureAndSize, text_chunk("Software", kCreator));
    write_text_safely(file, bytes);
}

} // namespace kasane
