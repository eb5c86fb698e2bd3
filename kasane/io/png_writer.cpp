#include <kasane/io/png.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <array>
#include <csetjmp>
#include <cstdio>
#include <cstring>
#include <fmt/format.h>
#include <memory>
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

/// What the C library needs; it jumps out of errors, so nothing with a destructor lives inside write.
struct Encoder {
    png_structp png = nullptr;
    png_infop info = nullptr;
    std::array<char, 200> message{};

    Encoder() {
        png = png_create_write_struct(PNG_LIBPNG_VER_STRING, this, failed, [](png_structp, png_const_charp) {});
        info = png ? png_create_info_struct(png) : nullptr;
    }
    ~Encoder() { png_destroy_write_struct(&png, &info); }
    Encoder(const Encoder&) = delete;
    Encoder& operator=(const Encoder&) = delete;

    [[noreturn]] static void failed(png_structp png, png_const_charp why) {
        auto* self = static_cast<Encoder*>(png_get_error_ptr(png));
        std::strncpy(self->message.data(), why, self->message.size() - 1);
        png_longjmp(png, 1);
    }

    /// `row(y)` gives each row's bytes.
    template <class Row>
    bool write(std::FILE* out, const Image& image, int bits, const PictureNotes& notes, Row& row) {
        if (!info || setjmp(png_jmpbuf(png))) return false;
        png_init_io(png, out);
        png_set_IHDR(png, info, static_cast<png_uint_32>(image.width()), static_cast<png_uint_32>(image.height()), bits,
                     image.planes() == 3 ? PNG_COLOR_TYPE_RGB : PNG_COLOR_TYPE_GRAY, PNG_INTERLACE_NONE,
                     PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
        png_set_compression_level(png, 6);
        png_text texts[2] = {};
        char software[] = "Software", description[] = "Description";
        texts[0].compression = texts[1].compression = PNG_TEXT_COMPRESSION_NONE;
        texts[0].key = software, texts[0].text = const_cast<char*>(kCreator);
        texts[1].key = description, texts[1].text = const_cast<char*>(notes.description.c_str());
        png_set_text(png, info, texts, notes.description.empty() ? 1 : 2);
        if (!notes.profile.empty())
            png_set_iCCP(png, info, "profile", PNG_COMPRESSION_TYPE_BASE,
                         reinterpret_cast<png_const_bytep>(notes.profile.data()),
                         static_cast<png_uint_32>(notes.profile.size()));
        png_write_info(png, info);
        if (bits == 16) png_set_swap(png);
        for (int y = 0; y < image.height(); ++y)
            png_write_row(png, row(y));
        png_write_end(png, info);
        return true;
    }
};

} // namespace

void write_png(const std::filesystem::path& file, const Image& image, int bits, const PictureNotes& notes) {
    if (image.empty() || (image.planes() != 1 && image.planes() != 3) || (bits != 8 && bits != 16))
        throw UsageError("an image of this shape is no PNG", file, {});
    const auto channels = static_cast<std::size_t>(image.planes()), width = static_cast<std::size_t>(image.width());
    std::vector<std::uint16_t> wide(width * channels);
    std::vector<std::uint8_t> narrow(width * channels);
    const auto row = [&](int y) -> png_const_bytep {
        for (std::size_t c = 0; c < channels; ++c) {
            const float* values = image.plane(static_cast<int>(c)).row(y);
            for (std::size_t x = 0; x < width; ++x) {
                const std::uint16_t v = whole_sample(values[x], bits == 16 ? 65535 : 255);
                wide[x * channels + c] = v;
                narrow[x * channels + c] = static_cast<std::uint8_t>(v);
            }
        }
        return bits == 16 ? reinterpret_cast<png_const_bytep>(wide.data()) : narrow.data();
    };
    write_file_safely(file, [&](const std::filesystem::path& temporary) {
        struct Close {
            void operator()(std::FILE* f) const { std::fclose(f); }
        };
        std::unique_ptr<std::FILE, Close> out(std::fopen(temporary.c_str(), "wb"));
        constexpr const char* kRemedy = "Check that there is room on the disk, and that the folder may be written to";
        Encoder encoder;
        const bool well = out && encoder.write(out.get(), image, bits, notes, row) && std::fflush(out.get()) == 0;
        if (!well)
            throw OutputError("cannot be written" +
                                  (encoder.message[0] ? fmt::format(" ({})", encoder.message.data()) : std::string()),
                              file, kRemedy);
    });
}

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
    info.flags = PNG_IMAGE_FLAG_FAST; // previews are noise for the most part: searching longer finds nothing
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
