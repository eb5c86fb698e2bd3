#include <kasane/sky/dng.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <array>
#include <memory>
#include <tiffio.h>
#include <vector>

namespace kasane::sky {

namespace {

std::uint8_t colour_number(char c) {
    return c == 'R' ? 0 : c == 'G' ? 1 : 2;
}

struct Close {
    void operator()(TIFF* t) const { TIFFClose(t); }
};

void write_exif(TIFF* t, const DngTags& d) {
    TIFFFreeDirectory(t); // the library forgets what it holds otherwise
    TIFFCreateEXIFDirectory(t);
    TIFFSetField(t, EXIFTAG_EXPOSURETIME, d.seconds);
    const std::uint16_t iso[] = {static_cast<std::uint16_t>(d.iso)};
    TIFFSetField(t, EXIFTAG_ISOSPEEDRATINGS, 1, iso);
    TIFFSetField(t, EXIFTAG_DATETIMEORIGINAL, d.local_time.c_str());
    if (d.focal_length_mm) TIFFSetField(t, EXIFTAG_FOCALLENGTH, *d.focal_length_mm);
    if (!d.lens.empty()) TIFFSetField(t, EXIFTAG_LENSMODEL, d.lens.c_str());
    if (d.temperature) TIFFSetField(t, EXIFTAG_TEMPERATURE, *d.temperature);
}

} // namespace

void write_dng(const std::filesystem::path& file, View<const std::uint16_t> pixels, const DngTags& d) {
    const auto write = [&](const std::filesystem::path& temporary) {
        const std::unique_ptr<TIFF, Close> tiff(TIFFOpen(temporary.c_str(), "w"));
        TIFF* t = tiff.get();
        if (!t) throw OutputError("cannot be made", file, "Check that the folder may be written");
        const std::array<std::uint8_t, 4> pattern = {colour_number(d.cfa.at(0)), colour_number(d.cfa.at(1)),
                                                     colour_number(d.cfa.at(2)), colour_number(d.cfa.at(3))};
        const std::uint16_t repeat[] = {2, 2}, black_repeat[] = {1, 1};
        const std::uint8_t version[] = {1, 4, 0, 0}, planes[] = {0, 1, 2};
        const float black[] = {static_cast<float>(d.black)}, neutral[] = {0.5f, 1.0f, 0.7f};
        const float matrix[] = {0.7f, -0.1f, -0.1f, -0.4f, 1.2f, 0.2f, -0.1f, 0.2f, 0.6f};
        const std::uint32_t white[] = {static_cast<std::uint32_t>(d.white)};
        TIFFSetField(t, TIFFTAG_SUBFILETYPE, 0);
        TIFFSetField(t, TIFFTAG_IMAGEWIDTH, pixels.width);
        TIFFSetField(t, TIFFTAG_IMAGELENGTH, pixels.height);
        TIFFSetField(t, TIFFTAG_BITSPERSAMPLE, 16);
        TIFFSetField(t, TIFFTAG_SAMPLESPERPIXEL, 1);
        TIFFSetField(t, TIFFTAG_COMPRESSION, COMPRESSION_NONE);
        TIFFSetField(t, TIFFTAG_PHOTOMETRIC, PHOTOMETRIC_CFA);
        TIFFSetField(t, TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG);
        TIFFSetField(t, TIFFTAG_ROWSPERSTRIP, pixels.height);
        TIFFSetField(t, TIFFTAG_ORIENTATION, d.orientation);
        TIFFSetField(t, TIFFTAG_MAKE, d.make.c_str());
        TIFFSetField(t, TIFFTAG_MODEL, d.model.c_str());
        TIFFSetField(t, TIFFTAG_CFAREPEATPATTERNDIM, repeat);
        TIFFSetField(t, TIFFTAG_CFAPATTERN, 4, pattern.data());
        TIFFSetField(t, TIFFTAG_CFAPLANECOLOR, 3, planes);
        TIFFSetField(t, TIFFTAG_CFALAYOUT, 1);
        TIFFSetField(t, TIFFTAG_DNGVERSION, version);
        TIFFSetField(t, TIFFTAG_DNGBACKWARDVERSION, version);
        TIFFSetField(t, TIFFTAG_UNIQUECAMERAMODEL, (d.make + " " + d.model).c_str());
        TIFFSetField(t, TIFFTAG_COLORMATRIX1, 9, matrix);
        TIFFSetField(t, TIFFTAG_CALIBRATIONILLUMINANT1, 21);
        TIFFSetField(t, TIFFTAG_ASSHOTNEUTRAL, 3, neutral);
        TIFFSetField(t, TIFFTAG_BLACKLEVELREPEATDIM, black_repeat);
        TIFFSetField(t, TIFFTAG_BLACKLEVEL, 1, black);
        TIFFSetField(t, TIFFTAG_WHITELEVEL, 1, white);
        std::uint64_t at = 0; // of the EXIF block: known and entered later
        TIFFSetField(t, TIFFTAG_EXIFIFD, at);
        bool ok = true;
        for (int y = 0; y < pixels.height; ++y)
            ok = ok &&
                 TIFFWriteScanline(t, const_cast<std::uint16_t*>(pixels.row(y)), static_cast<std::uint32_t>(y)) == 1;
        ok = ok && TIFFWriteDirectory(t) && TIFFSetDirectory(t, 0);
        write_exif(t, d);
        ok = ok && TIFFWriteCustomDirectory(t, &at);
        ok = ok && TIFFSetDirectory(t, 0) && TIFFSetField(t, TIFFTAG_EXIFIFD, at) && TIFFWriteDirectory(t);
        if (!ok) throw OutputError("cannot be written to its end", file, "Free some space and try again");
    };
    write_file_safely(file, write, Over::anything); // the caller has seen to it that nothing is lost
}

} // namespace kasane::sky
