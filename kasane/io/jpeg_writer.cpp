#include <kasane/io/jpeg.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <csetjmp>
#include <cstdio>
#include <cstdlib>
#include <fmt/format.h>
#include <jpeglib.h>
#include <vector>

namespace kasane {

namespace {

struct Failure {
    jpeg_error_mgr base;
    std::jmp_buf jump;
};

[[noreturn]] void on_error(j_common_ptr info) {
    std::longjmp(reinterpret_cast<Failure*>(info->err)->jump, 1);
}

/// What the C library needs; it jumps out of errors, so nothing with a destructor lives inside encode.
struct Encoder {
    jpeg_compress_struct info{};
    Failure failure{};
    unsigned char* bytes = nullptr;
    unsigned long size = 0;

    Encoder() {
        info.err = jpeg_std_error(&failure.base);
        failure.base.error_exit = on_error;
        failure.base.output_message = [](j_common_ptr) {};
        jpeg_create_compress(&info);
    }
    ~Encoder() {
        jpeg_destroy_compress(&info);
        std::free(bytes);
    }
    Encoder(const Encoder&) = delete;
    Encoder& operator=(const Encoder&) = delete;

    bool encode(const std::uint8_t* rows, int width, int height, int channels, int quality, const PictureNotes& notes) {
        if (setjmp(failure.jump)) return false;
        jpeg_mem_dest(&info, &bytes, &size);
        info.image_width = static_cast<JDIMENSION>(width);
        info.image_height = static_cast<JDIMENSION>(height);
        info.input_components = channels;
        info.in_color_space = channels == 3 ? JCS_RGB : JCS_GRAYSCALE;
        jpeg_set_defaults(&info);
        jpeg_set_quality(&info, quality, TRUE);
        jpeg_start_compress(&info, TRUE);
        jpeg_write_marker(&info, JPEG_COM, reinterpret_cast<const JOCTET*>(kCreator),
                          static_cast<unsigned>(std::char_traits<char>::length(kCreator)));
        constexpr std::size_t kMostText = 60000; // bytes of a marker
        if (!notes.description.empty())
            jpeg_write_marker(&info, JPEG_COM, reinterpret_cast<const JOCTET*>(notes.description.data()),
                              static_cast<unsigned>(std::min(kMostText, notes.description.size())));
        if (!notes.profile.empty())
            jpeg_write_icc_profile(&info, reinterpret_cast<const JOCTET*>(notes.profile.data()),
                                   static_cast<unsigned>(notes.profile.size()));
        while (info.next_scanline < info.image_height) {
            auto* row = const_cast<std::uint8_t*>(rows) +
                        static_cast<std::size_t>(info.next_scanline) * static_cast<std::size_t>(width * channels);
            JSAMPROW lines[1] = {row};
            jpeg_write_scanlines(&info, lines, 1);
        }
        jpeg_finish_compress(&info);
        return true;
    }
};

} // namespace

std::string encode_jpeg(const Raster<std::uint8_t>& image, int quality, const PictureNotes& notes) {
    const int channels = image.planes() == 3 ? 3 : 1;
    std::vector<std::uint8_t> interleaved;
    interleaved.reserve(image.pixels().size());
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x)
            for (int c = 0; c < channels; ++c)
                interleaved.push_back(image(x, y, c));
    Encoder encoder;
    if (image.empty() || !encoder.encode(interleaved.data(), image.width(), image.height(), channels, quality, notes))
        throw OutputError("a preview cannot be encoded as JPEG", {}, {});
    return {reinterpret_cast<const char*>(encoder.bytes), encoder.size};
}

void write_jpeg(const std::filesystem::path& file, const Raster<std::uint8_t>& image, int quality) {
    write_text_safely(file, encode_jpeg(image, quality)); // marked by its comment
}

void write_jpeg(const std::filesystem::path& file, const Image& image, int quality, const PictureNotes& notes) {
    if (image.width() > JPEG_MAX_DIMENSION || image.height() > JPEG_MAX_DIMENSION)
        throw UsageError(fmt::format("a JPEG has {} pixels along a side at most, this picture {} x {}",
                                     JPEG_MAX_DIMENSION, image.width(), image.height()),
                         file, "Bin it first, or take another format");
    Raster<std::uint8_t> whole(image.width(), image.height(), image.planes());
    for (std::size_t i = 0; i < whole.pixels().size(); ++i)
        whole.pixels()[i] = static_cast<std::uint8_t>(whole_sample(image.pixels()[i], 255));
    write_text_safely(file, encode_jpeg(whole, quality, notes));
}

} // namespace kasane
