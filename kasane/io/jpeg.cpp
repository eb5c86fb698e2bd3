// JPEG through libjpeg: 8-bit samples as they are, grey or RGB.
#include <kasane/base/error.hpp>
#include <kasane/io/formats.hpp>

#include <csetjmp>
#include <cstdio>
#include <fmt/format.h>
#include <jpeglib.h>
#include <vector>

namespace kasane {

namespace {

struct Failure {
    jpeg_error_mgr base;
    std::jmp_buf jump;
    char text[JMSG_LENGTH_MAX];
};

[[noreturn]] void on_error(j_common_ptr info) {
    auto* f = reinterpret_cast<Failure*>(info->err);
    (*info->err->format_message)(info, f->text);
    std::longjmp(f->jump, 1);
}

/// Owns what a decode needs; the C library jumps out of errors, so nothing with a destructor may live between.
struct Decoder {
    jpeg_decompress_struct info{};
    Failure failure{};
    std::FILE* file = nullptr;
    std::filesystem::path path;

    explicit Decoder(const std::filesystem::path& p) : path(p) {
        file = std::fopen(p.c_str(), "rb");
        if (!file) throw InputError("cannot be opened", p, "Check that the file exists and may be read");
        info.err = jpeg_std_error(&failure.base);
        failure.base.error_exit = on_error;
        failure.base.output_message = [](j_common_ptr) {};
        jpeg_create_decompress(&info);
    }
    ~Decoder() {
        jpeg_destroy_decompress(&info);
        std::fclose(file);
    }
    Decoder(const Decoder&) = delete;
    Decoder& operator=(const Decoder&) = delete;

    [[noreturn]] void refuse() const {
        throw InputError(fmt::format("is a damaged JPEG file ({})", failure.text), path,
                         "Copy it again from the camera, or remove it");
    }
    bool begin() {
        if (setjmp(failure.jump)) return false;
        jpeg_stdio_src(&info, file);
        jpeg_save_markers(&info, JPEG_APP0 + 1, 0xffff);
        jpeg_save_markers(&info, JPEG_COM, 400);
        jpeg_read_header(&info, TRUE);
        info.out_color_space = info.num_components == 1 ? JCS_GRAYSCALE : JCS_RGB;
        return true;
    }
    bool rows(std::uint8_t* line, int width, int height, int planes, std::uint16_t* to) {
        if (setjmp(failure.jump)) return false;
        jpeg_start_decompress(&info);
        const std::size_t plane_size = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
        while (info.output_scanline < info.output_height) {
            const std::size_t row = info.output_scanline * static_cast<std::size_t>(width);
            JSAMPROW rows[1] = {line};
            jpeg_read_scanlines(&info, rows, 1);
            for (int x = 0; x < width; ++x)
                for (int c = 0; c < planes; ++c)
                    to[static_cast<std::size_t>(c) * plane_size + row + static_cast<std::size_t>(x)] =
                        line[x * planes + c];
        }
        jpeg_finish_decompress(&info);
        return info.err->num_warnings == 0; // a file cut short is only warned of
    }
};

FrameSummary summary_of(Decoder& d) {
    if (!d.begin()) d.refuse();
    FrameSummary s;
    s.format = Format::jpeg;
    s.width = static_cast<int>(d.info.image_width);
    s.height = static_cast<int>(d.info.image_height);
    s.planes = d.info.num_components == 1 ? 1 : 3;
    s.bits = 8;
    s.linear = false;
    require_plausible_size(d.path, s.width, s.height, s.planes);
    for (auto* m = d.info.marker_list; m; m = m->next) {
        if (m->marker == JPEG_APP0 + 1) add_exif(s.header, m->data, m->data_length);
        if (m->marker == JPEG_COM)
            s.header.set("Jpeg.Comment", std::string(reinterpret_cast<const char*>(m->data), m->data_length));
    }
    return s;
}

} // namespace

FrameSummary jpeg_summary(const std::filesystem::path& file) {
    Decoder d(file);
    return summary_of(d);
}

Decoded decode_jpeg(const std::filesystem::path& file) {
    Decoder d(file);
    const FrameSummary s = summary_of(d);
    Decoded out{Raster<std::uint16_t>(s.width, s.height * s.planes), {}};
    std::vector<std::uint8_t> line(static_cast<std::size_t>(s.width) * 3);
    if (!d.rows(line.data(), s.width, s.height, s.planes, out.counts.pixels().data())) {
        if (!d.failure.text[0]) (*d.info.err->format_message)(reinterpret_cast<j_common_ptr>(&d.info), d.failure.text);
        d.refuse();
    }
    return out;
}

} // namespace kasane
