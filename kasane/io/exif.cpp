// EXIF blocks (EXIF 2.32, CIPA DC-008) through libexif.
#include <kasane/io/formats.hpp>

#include <array>
#include <fmt/format.h>
#include <libexif/exif-data.h>
#include <memory>

namespace kasane {

namespace {

struct Wanted {
    ExifTag tag;
    const char* key;
};
constexpr std::array<Wanted, 17> kWanted = {{
    {EXIF_TAG_MAKE, "Exif.Make"},
    {EXIF_TAG_MODEL, "Exif.Model"},
    {EXIF_TAG_SOFTWARE, "Exif.Software"},
    {EXIF_TAG_IMAGE_DESCRIPTION, "Exif.ImageDescription"},
    {EXIF_TAG_DATE_TIME, "Exif.DateTime"},
    {EXIF_TAG_DATE_TIME_ORIGINAL, "Exif.DateTimeOriginal"},
    {EXIF_TAG_OFFSET_TIME_ORIGINAL, "Exif.OffsetTimeOriginal"},
    {EXIF_TAG_EXPOSURE_TIME, "Exif.ExposureTime"},
    {EXIF_TAG_ISO_SPEED_RATINGS, "Exif.ISOSpeedRatings"},
    {EXIF_TAG_FOCAL_LENGTH, "Exif.FocalLength"},
    {EXIF_TAG_FNUMBER, "Exif.FNumber"},
    {EXIF_TAG_LENS_MODEL, "Exif.LensModel"},
    {EXIF_TAG_ORIENTATION, "Exif.Orientation"},
    {EXIF_TAG_USER_COMMENT, "Exif.UserComment"},
    {EXIF_TAG_PIXEL_X_DIMENSION, "Exif.PixelXDimension"},
    {EXIF_TAG_PIXEL_Y_DIMENSION, "Exif.PixelYDimension"},
    {EXIF_TAG_ARTIST, "Exif.Artist"},
}};

std::string value_of(const ExifEntry& e, ExifByteOrder order) {
    const std::size_t size = exif_format_get_size(e.format);
    if (!e.data || e.components == 0 || size == 0 || e.size < size) return {};
    switch (e.format) {
    case EXIF_FORMAT_ASCII: {
        std::string text(reinterpret_cast<const char*>(e.data), e.size);
        text.erase(std::min(text.find('\0'), text.size()));
        return text;
    }
    case EXIF_FORMAT_RATIONAL: {
        const ExifRational r = exif_get_rational(e.data, order);
        return r.denominator ? fmt::format("{:.10g}", static_cast<double>(r.numerator) / r.denominator) : "";
    }
    case EXIF_FORMAT_SRATIONAL: {
        const ExifSRational r = exif_get_srational(e.data, order);
        return r.denominator ? fmt::format("{:.10g}", static_cast<double>(r.numerator) / r.denominator) : "";
    }
    case EXIF_FORMAT_SHORT:
        return fmt::format("{}", exif_get_short(e.data, order));
    case EXIF_FORMAT_LONG:
        return fmt::format("{}", exif_get_long(e.data, order));
    default:
        return {};
    }
}

} // namespace

void add_exif(Header& header, const unsigned char* data, std::size_t size) {
    if (size < 8 || size > (1u << 24)) return;
    struct Unref {
        void operator()(ExifData* d) const { exif_data_unref(d); }
    };
    const std::unique_ptr<ExifData, Unref> exif(exif_data_new_from_data(data, static_cast<unsigned int>(size)));
    if (!exif) return;
    const ExifByteOrder order = exif_data_get_byte_order(exif.get());
    for (const Wanted& w : kWanted)
        for (const auto ifd : {EXIF_IFD_0, EXIF_IFD_EXIF}) {
            const ExifEntry* e = exif_content_get_entry(exif->ifd[ifd], w.tag);
            if (!e) continue;
            const std::string value = value_of(*e, order);
            if (!value.empty()) header.set(w.key, value);
            break;
        }
}

} // namespace kasane
