#include "support/formats.hpp"

#include <cstdio>
#include <cstring>
#include <fitsio.h>
#include <jpeglib.h>
#include <png.h>
#include <stdexcept>
#include <string>
#include <tiffio.h>
#include <vector>

namespace kasane::test {

namespace {

template <class T>
std::vector<T> samples(const Raster<std::uint16_t>& p, const Region& r, int plane, bool together) {
    std::vector<T> out;
    for (int y = r.y; y < r.bottom(); ++y)
        for (int x = r.x; x < r.right(); ++x)
            for (int c = together ? 0 : plane; c < (together ? p.planes() : plane + 1); ++c)
                out.push_back(x < p.width() && y < p.height() ? static_cast<T>(p(x, y, c)) : T{});
    return out;
}

template <class T>
void write_pieces(TIFF* t, const Raster<std::uint16_t>& p, const TiffOptions& o) {
    std::uint32_t index = 0;
    const int w = o.tile ? o.tile : p.width(), h = o.tile ? o.tile : o.rows_per_strip;
    for (int plane = 0; plane < (o.separate ? p.planes() : 1); ++plane)
        for (int y = 0; y < p.height(); y += h)
            for (int x = 0; x < p.width(); x += w) {
                const int rows = o.tile ? h : std::min(h, p.height() - y);
                auto data = samples<T>(p, {x, y, w, rows}, plane, !o.separate);
                const auto bytes = static_cast<tmsize_t>(data.size() * sizeof(T));
                if (o.tile)
                    TIFFWriteEncodedTile(t, index++, data.data(), bytes);
                else
                    TIFFWriteEncodedStrip(t, index++, data.data(), bytes);
            }
}

} // namespace

void write_tiff(const std::filesystem::path& file, const Raster<std::uint16_t>& p, const TiffOptions& o) {
    TIFF* t = TIFFOpen(file.c_str(), o.big ? "w8" : "w");
    if (!t) throw std::runtime_error("no TIFF");
    TIFFSetField(t, TIFFTAG_IMAGEWIDTH, p.width());
    TIFFSetField(t, TIFFTAG_IMAGELENGTH, p.height());
    TIFFSetField(t, TIFFTAG_BITSPERSAMPLE, std::abs(o.bits));
    TIFFSetField(t, TIFFTAG_SAMPLEFORMAT, o.bits < 0 ? SAMPLEFORMAT_IEEEFP : SAMPLEFORMAT_UINT);
    TIFFSetField(t, TIFFTAG_SAMPLESPERPIXEL, p.planes());
    TIFFSetField(t, TIFFTAG_PHOTOMETRIC, p.planes() == 3 ? PHOTOMETRIC_RGB : PHOTOMETRIC_MINISBLACK);
    TIFFSetField(t, TIFFTAG_PLANARCONFIG, o.separate ? PLANARCONFIG_SEPARATE : PLANARCONFIG_CONTIG);
    TIFFSetField(t, TIFFTAG_COMPRESSION, o.deflate ? COMPRESSION_ADOBE_DEFLATE : COMPRESSION_NONE);
    TIFFSetField(t, TIFFTAG_ORIENTATION, o.orientation);
    TIFFSetField(t, TIFFTAG_MAKE, "Simulated");
    TIFFSetField(t, TIFFTAG_MODEL, "Mirror box 24");
    if (o.tile) {
        TIFFSetField(t, TIFFTAG_TILEWIDTH, o.tile);
        TIFFSetField(t, TIFFTAG_TILELENGTH, o.tile);
    } else {
        TIFFSetField(t, TIFFTAG_ROWSPERSTRIP, o.rows_per_strip);
    }
    if (o.bits == -32)
        write_pieces<float>(t, p, o);
    else if (o.bits == 32)
        write_pieces<std::uint32_t>(t, p, o);
    else if (o.bits == 8)
        write_pieces<std::uint8_t>(t, p, o);
    else
        write_pieces<std::uint16_t>(t, p, o);
    std::uint64_t at = 0;
    TIFFSetField(t, TIFFTAG_EXIFIFD, at);
    TIFFWriteDirectory(t);
    TIFFFreeDirectory(t); // the library forgets what it holds otherwise
    TIFFCreateEXIFDirectory(t);
    TIFFSetField(t, EXIFTAG_EXPOSURETIME, 30.0);
    const std::uint16_t iso[] = {1600};
    TIFFSetField(t, EXIFTAG_ISOSPEEDRATINGS, 1, iso);
    TIFFSetField(t, EXIFTAG_DATETIMEORIGINAL, "2031:03:12 22:10:05");
    TIFFWriteCustomDirectory(t, &at);
    TIFFSetDirectory(t, 0);
    TIFFSetField(t, TIFFTAG_EXIFIFD, at);
    TIFFWriteDirectory(t);
    TIFFClose(t);
}

void write_png16(const std::filesystem::path& file, const Raster<std::uint16_t>& p) {
    std::FILE* out = std::fopen(file.c_str(), "wb");
    png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, nullptr, nullptr);
    png_infop info = png_create_info_struct(png);
    png_init_io(png, out);
    png_set_IHDR(png, info, static_cast<png_uint_32>(p.width()), static_cast<png_uint_32>(p.height()), 16,
                 PNG_COLOR_TYPE_GRAY, PNG_INTERLACE_NONE, PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
    png_write_info(png, info);
    png_set_swap(png);
    for (int y = 0; y < p.height(); ++y)
        png_write_row(png, reinterpret_cast<png_const_bytep>(p.plane().row(y)));
    png_write_end(png, nullptr);
    png_destroy_write_struct(&png, &info);
    std::fclose(out);
}

void write_jpeg(const std::filesystem::path& file, const Raster<std::uint16_t>& p) {
    std::FILE* out = std::fopen(file.c_str(), "wb");
    jpeg_compress_struct c{};
    jpeg_error_mgr errors{};
    c.err = jpeg_std_error(&errors);
    jpeg_create_compress(&c);
    jpeg_stdio_dest(&c, out);
    c.image_width = static_cast<JDIMENSION>(p.width());
    c.image_height = static_cast<JDIMENSION>(p.height());
    c.input_components = p.planes();
    c.in_color_space = p.planes() == 3 ? JCS_RGB : JCS_GRAYSCALE;
    jpeg_set_defaults(&c);
    jpeg_set_quality(&c, 100, TRUE);
    jpeg_start_compress(&c, TRUE);
    // Exif, little-endian TIFF, one entry: Model (0x0110), 14 characters at offset 26.
    std::string exif("Exif\0\0II*\0\x08\0\0\0\x01\0\x10\x01\x02\0\x0e\0\0\0\x1a\0\0\0\0\0\0\0", 32);
    exif.append("Mirror box 24\0", 14);
    jpeg_write_marker(&c, JPEG_APP0 + 1, reinterpret_cast<const JOCTET*>(exif.data()),
                      static_cast<unsigned>(exif.size()));
    std::vector<JSAMPLE> line;
    for (int y = 0; y < p.height(); ++y) {
        line.clear();
        for (int x = 0; x < p.width(); ++x)
            for (int k = 0; k < p.planes(); ++k)
                line.push_back(static_cast<JSAMPLE>(p(x, y, k)));
        JSAMPROW row[] = {line.data()};
        jpeg_write_scanlines(&c, row, 1);
    }
    jpeg_finish_compress(&c);
    jpeg_destroy_compress(&c);
    std::fclose(out);
}

void write_tile_compressed(const std::filesystem::path& from, const std::filesystem::path& to) {
    int status = 0;
    fitsfile *in = nullptr, *out = nullptr;
    fits_open_diskfile(&in, from.c_str(), READONLY, &status);
    fits_create_diskfile(&out, to.c_str(), &status);
    fits_set_compression_type(out, RICE_1, &status);
    fits_img_compress(in, out, &status);
    fits_close_file(out, &status);
    fits_close_file(in, &status);
    if (status) throw std::runtime_error("no tile-compressed file");
}

} // namespace kasane::test
