// PNG through libpng: 8 or 16-bit samples as they are stored, grey or RGB; alpha is left out.
#include <kasane/base/error.hpp>
#include <kasane/io/formats.hpp>

#include <csetjmp>
#include <cstdio>
#include <fmt/format.h>
#include <png.h>
#include <string>
#include <vector>

namespace kasane {

namespace {

/// Owns what a decode needs. libpng jumps out of errors: functions with setjmp hold only plain values.
struct Decoder {
    png_structp png = nullptr;
    png_infop info = nullptr;
    std::FILE* file = nullptr;
    std::filesystem::path path;
    char reason[160] = {};
    int width = 0, height = 0, channels = 0, bits = 0;

    explicit Decoder(const std::filesystem::path& p) : path(p) {
        file = std::fopen(p.c_str(), "rb");
        if (!file) throw InputError("cannot be opened", p, "Check that the file exists and may be read");
        png = png_create_read_struct(
            PNG_LIBPNG_VER_STRING, this,
            [](png_structp self, png_const_charp text) {
                auto* d = static_cast<Decoder*>(png_get_error_ptr(self));
                std::snprintf(d->reason, sizeof d->reason, "%s", text);
                png_longjmp(self, 1);
            },
            [](png_structp, png_const_charp) {});
        info = png ? png_create_info_struct(png) : nullptr;
        if (!info) {
            if (png) png_destroy_read_struct(&png, nullptr, nullptr);
            std::fclose(file);
            throw std::bad_alloc();
        }
        png_set_user_limits(png, kLargestSide, kLargestSide);
    }
    ~Decoder() {
        png_destroy_read_struct(&png, &info, nullptr);
        std::fclose(file);
    }
    Decoder(const Decoder&) = delete;
    Decoder& operator=(const Decoder&) = delete;

    [[noreturn]] void refuse() const {
        throw InputError(fmt::format("is a damaged PNG file ({})", reason), path,
                         "Copy it again from the camera, or remove it");
    }
    bool begin() {
        if (setjmp(png_jmpbuf(png))) return false;
        png_init_io(png, file);
        png_read_info(png, info);
        if (png_get_color_type(png, info) == PNG_COLOR_TYPE_PALETTE) png_set_palette_to_rgb(png);
        if (png_get_bit_depth(png, info) < 8) png_set_packing(png);
        png_set_strip_alpha(png);
        png_set_interlace_handling(png);
        png_read_update_info(png, info);
        width = static_cast<int>(png_get_image_width(png, info));
        height = static_cast<int>(png_get_image_height(png, info));
        channels = png_get_channels(png, info);
        bits = png_get_bit_depth(png, info);
        return true;
    }
    bool all(png_bytepp rows) {
        if (setjmp(png_jmpbuf(png))) return false;
        png_read_image(png, rows);
        png_read_end(png, nullptr);
        return true;
    }
};

FrameSummary summary_of(Decoder& d) {
    if (!d.begin()) d.refuse();
    require_plausible_size(d.path, d.width, d.height, d.channels);
    FrameSummary s;
    s.format = Format::png;
    s.width = d.width;
    s.height = d.height;
    s.planes = d.channels >= 3 ? 3 : 1;
    s.bits = d.bits == 16 ? 16 : 8;
    png_textp text = nullptr;
    int count = 0;
    png_get_text(d.png, d.info, &text, &count);
    for (int i = 0; i < count; ++i)
        if (text[i].text) s.header.set(fmt::format("Png.{}", text[i].key), std::string(text[i].text).substr(0, 400));
#ifdef PNG_eXIf_SUPPORTED
    png_bytep exif = nullptr;
    png_uint_32 size = 0;
    if (png_get_eXIf_1(d.png, d.info, &size, &exif)) {
        std::string block("Exif\0\0", 6);
        block.append(reinterpret_cast<const char*>(exif), size);
        add_exif(s.header, reinterpret_cast<const unsigned char*>(block.data()), block.size());
    }
#endif
    return s;
}

} // namespace

FrameSummary png_summary(const std::filesystem::path& file) {
    Decoder d(file);
    return summary_of(d);
}

Decoded decode_png(const std::filesystem::path& file) {
    Decoder d(file);
    const FrameSummary s = summary_of(d);
    const std::size_t row_bytes = png_get_rowbytes(d.png, d.info);
    std::vector<png_byte> bytes(row_bytes * static_cast<std::size_t>(s.height));
    std::vector<png_bytep> rows;
    for (int y = 0; y < s.height; ++y)
        rows.push_back(bytes.data() + row_bytes * static_cast<std::size_t>(y));
    if (!d.all(rows.data())) d.refuse();
    Decoded out{Raster<std::uint16_t>(s.width, s.height * s.planes), {}};
    for (int y = 0; y < s.height; ++y)
        for (int c = 0; c < s.planes; ++c)
            for (int x = 0; x < s.width; ++x) {
                const std::size_t at = static_cast<std::size_t>(x * d.channels + c);
                const png_bytep row = rows[static_cast<std::size_t>(y)];
                out.counts(x, y + c * s.height) =
                    s.bits == 16 ? static_cast<std::uint16_t>(row[2 * at] << 8 | row[2 * at + 1]) : row[at];
            }
    return out;
}

} // namespace kasane
