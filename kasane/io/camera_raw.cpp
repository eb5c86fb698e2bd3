// Camera raw files through LibRaw: the mosaic as the sensor gave it, never demosaiced, scaled or turned.
#include <kasane/base/error.hpp>
#include <kasane/io/formats.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <ctime>
#include <fmt/format.h>
#include <libraw/libraw.h>

namespace kasane {

namespace {

constexpr float kNoTemperature = -273; // LibRaw's mark for "not stored" lies below -999

/// LibRaw is large: on the heap. Throws InputError with LibRaw's reason.
std::unique_ptr<LibRaw> open_raw(const std::filesystem::path& file) {
    auto raw = std::make_unique<LibRaw>();
    raw->set_dataerror_handler([](void*, const char*, int) {}, nullptr); // no text on standard error
    const int status = raw->open_file(file.c_str());
    if (status == LIBRAW_FILE_UNSUPPORTED)
        throw InputError("is not a camera raw file that can be read, though its name says so", file,
                         "Copy it again from the camera, or convert it to DNG or FITS");
    if (status != LIBRAW_SUCCESS)
        throw InputError(fmt::format("cannot be read as camera raw: {}", libraw_strerror(status)), file,
                         "Copy it again from the camera, or remove it");
    const auto& s = raw->imgdata.sizes;
    require_plausible_size(file, s.width, s.height, 1);
    return raw;
}

/// Colours of the first pixels of the visible area: 2 x 2, or 6 x 6 for sensors that need it.
std::string cfa_pattern(LibRaw& raw) {
    const auto& id = raw.imgdata.idata;
    if (id.filters == 0 || id.colors < 3) return {};
    const int period = id.filters == 9 ? 6 : 2;
    std::string pattern;
    for (int y = 0; y < period; ++y)
        for (int x = 0; x < period; ++x)
            pattern += id.cdesc[raw.COLOR(y, x)];
    return pattern;
}

void add_text(Header& h, const char* key, const std::string& text) {
    if (!text.empty()) h.set(key, text);
}

template <std::size_t N>
std::string text_of(const char (&field)[N]) { // not every file ends its strings
    return {field, std::find(field, field + N, '\0')};
}

FrameSummary summary_of(LibRaw& raw) {
    const libraw_data_t& d = raw.imgdata;
    FrameSummary s;
    s.format = Format::camera_raw;
    s.width = d.sizes.width;
    s.height = d.sizes.height;
    s.bits = 16;
    Header& h = s.header;
    add_text(h, "Exif.Make", text_of(d.idata.make));
    add_text(h, "Exif.Model", text_of(d.idata.model));
    add_text(h, "Exif.LensModel", text_of(d.lens.Lens));
    if (d.other.shutter > 0 && std::isfinite(d.other.shutter))
        h.set("Exif.ExposureTime", static_cast<double>(d.other.shutter));
    if (d.other.iso_speed > 0 && d.other.iso_speed < 1e7f)
        h.set("Exif.ISOSpeedRatings", static_cast<double>(d.other.iso_speed));
    if (d.other.focal_len > 0 && d.other.focal_len < 1e5f)
        h.set("Exif.FocalLength", static_cast<double>(d.other.focal_len));
    if (d.other.timestamp > 0) { // LibRaw reads the camera's clock as if in this machine's time zone; undone here
        std::tm t{};
        const std::time_t stamp = d.other.timestamp;
        localtime_r(&stamp, &t);
        h.set("Exif.DateTimeOriginal", fmt::format("{:04}:{:02}:{:02} {:02}:{:02}:{:02}", t.tm_year + 1900,
                                                   t.tm_mon + 1, t.tm_mday, t.tm_hour, t.tm_min, t.tm_sec));
    }
    add_text(h, "Exif.ImageDescription", text_of(d.other.desc));
    // LibRaw's flips as EXIF numbers them.
    const int flip = d.sizes.flip;
    h.set("Exif.Orientation", static_cast<long long>(flip == 3 ? 3 : flip == 5 ? 8 : flip == 6 ? 6 : 1));
    add_text(h, "Raw.CfaPattern", cfa_pattern(raw));
    unsigned black = d.color.black;
    if (d.color.cblack[4] == 0 || d.color.cblack[5] == 0) {
        unsigned sum = 0;
        for (int c = 0; c < 4; ++c)
            sum += std::min(d.color.cblack[c], 65535u);
        black += sum / 4;
    } else {
        double sum = 0;
        const unsigned n = std::min(d.color.cblack[4] * d.color.cblack[5], 36u);
        for (unsigned i = 0; i < n; ++i)
            sum += d.color.cblack[6 + i];
        black += static_cast<unsigned>(std::lround(sum / std::max(1u, n)));
    }
    h.set("Raw.BlackLevel", static_cast<long long>(black));
    if (d.color.maximum > 0) h.set("Raw.WhiteLevel", static_cast<long long>(d.color.maximum));
    const auto& common = d.makernotes.common;
    for (const float t : {common.SensorTemperature, common.SensorTemperature2, common.CameraTemperature})
        if (t > kNoTemperature && t < 150 && t != 0) {
            h.set("Raw.SensorTemperature", static_cast<double>(t));
            break;
        }
    if (common.exifAmbientTemperature > kNoTemperature && common.exifAmbientTemperature < 150)
        h.set("Exif.AmbientTemperature", static_cast<double>(common.exifAmbientTemperature));
    return s;
}

} // namespace

bool is_camera_raw_name(const std::filesystem::path& file) {
    static constexpr std::array<std::string_view, 24> kEndings = {
        ".3fr", ".arw", ".cr2", ".cr3", ".crw", ".dcr", ".dng", ".erf", ".fff", ".iiq", ".kdc", ".mef",
        ".mos", ".mrw", ".nef", ".nrw", ".orf", ".pef", ".raf", ".raw", ".rw2", ".rwl", ".sr2", ".srw"};
    std::string extension = file.extension().string();
    std::transform(extension.begin(), extension.end(), extension.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return std::find(kEndings.begin(), kEndings.end(), extension) != kEndings.end();
}

FrameSummary camera_raw_summary(const std::filesystem::path& file) {
    return summary_of(*open_raw(file));
}

Decoded decode_camera_raw(const std::filesystem::path& file) {
    const auto raw = open_raw(file);
    bool damaged = false; // a file cut short is told through this call alone
    raw->set_dataerror_handler([](void* flag, const char*, int) { *static_cast<bool*>(flag) = true; }, &damaged);
    const int status = raw->unpack();
    const libraw_data_t& d = raw->imgdata;
    if (status != LIBRAW_SUCCESS)
        throw InputError(fmt::format("cannot be unpacked: {}", libraw_strerror(status)), file,
                         "Copy it again from the camera, or remove it");
    if (damaged) throw InputError("is truncated or damaged", file, "Copy it again from the camera, or remove it");
    if (!d.rawdata.raw_image)
        throw InputError("holds no plain mosaic (a reduced or already demosaiced raw file)", file,
                         "Take exposures in the camera's full raw format");
    const auto& s = d.sizes;
    if (s.left_margin + s.width > s.raw_width || s.top_margin + s.height > s.raw_height)
        throw InputError("its visible area lies outside its pixels", file, "Copy it again from the camera");
    Decoded out{Raster<std::uint16_t>(s.width, s.height), {}};
    const std::size_t pitch = s.raw_pitch / sizeof(std::uint16_t);
    for (int y = 0; y < s.height; ++y)
        std::copy_n(d.rawdata.raw_image + static_cast<std::size_t>(y + s.top_margin) * pitch + s.left_margin, s.width,
                    out.counts.plane().row(y));
    return out;
}

} // namespace kasane
