// TIFF 6.0 and BigTIFF through libtiff: strips or tiles under a rectangle are decoded when it is asked for.
#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/formats.hpp>

#include <algorithm>
#include <cstdarg>
#include <cstring>
#include <fmt/format.h>
#include <list>
#include <mutex>
#include <tiffio.h>
#include <vector>

namespace kasane {

namespace {

struct Close {
    void operator()(TIFF* t) const { TIFFClose(t); }
};

/// An open TIFF with what libtiff said when something failed.
struct Handle {
    std::filesystem::path path;
    std::string reason;
    std::unique_ptr<TIFF, Close> tiff;

    explicit Handle(const std::filesystem::path& file) : path(file) {
        struct FreeOptions {
            void operator()(TIFFOpenOptions* o) const { TIFFOpenOptionsFree(o); }
        };
        const std::unique_ptr<TIFFOpenOptions, FreeOptions> options(TIFFOpenOptionsAlloc());
        TIFFOpenOptionsSetMaxSingleMemAlloc(options.get(), 1ll << 31);
        TIFFOpenOptionsSetErrorHandlerExtR(options.get(), &Handle::note, this);
        TIFFOpenOptionsSetWarningHandlerExtR(
            options.get(), [](TIFF*, void*, const char*, const char*, va_list) { return 1; }, nullptr);
        tiff.reset(TIFFOpenExt(file.c_str(), "r", options.get()));
        if (!tiff) refuse("is not a TIFF file that can be read");
    }
    Handle(const Handle&) = delete;
    Handle& operator=(const Handle&) = delete;

    [[noreturn]] void refuse(const std::string& what) const {
        throw InputError(reason.empty() ? what : fmt::format("{} ({})", what, reason), path,
                         "Export it again as a plain TIFF, or remove it");
    }

private:
    static int note(TIFF*, void* self, const char*, const char* format, va_list arguments) {
        char text[300];
        std::vsnprintf(text, sizeof text, format, arguments);
        static_cast<Handle*>(self)->reason = text;
        return 1;
    }
};

struct Layout {
    std::uint32_t width = 0, height = 0, chunk_width = 0, chunk_height = 0;
    std::uint16_t bits = 1, samples = 1, format = SAMPLEFORMAT_UINT, photometric = PHOTOMETRIC_MINISBLACK;
    std::uint16_t planar = PLANARCONFIG_CONTIG, compression = COMPRESSION_NONE;
    bool tiled = false;

    int planes() const { return samples >= 3 ? 3 : 1; }
    std::size_t sample_bytes() const { return bits / 8u; }
    std::size_t pixel_bytes() const { return sample_bytes() * (planar == PLANARCONFIG_CONTIG ? samples : 1u); }
    std::uint32_t across() const { return (width + chunk_width - 1) / chunk_width; }
    std::uint32_t down() const { return (height + chunk_height - 1) / chunk_height; }
    /// So few pieces that each rectangle would decode the file over and over.
    bool in_one_piece() const {
        constexpr std::uint64_t kSmall = 1 << 16; // pixels
        return std::uint64_t{chunk_width} * chunk_height > std::max(kSmall, std::uint64_t{width} * height / 8);
    }
};

Layout read_layout(const Handle& h) {
    Layout l;
    TIFF* t = h.tiff.get();
    TIFFGetField(t, TIFFTAG_IMAGEWIDTH, &l.width);
    TIFFGetField(t, TIFFTAG_IMAGELENGTH, &l.height);
    TIFFGetFieldDefaulted(t, TIFFTAG_BITSPERSAMPLE, &l.bits);
    TIFFGetFieldDefaulted(t, TIFFTAG_SAMPLESPERPIXEL, &l.samples);
    TIFFGetFieldDefaulted(t, TIFFTAG_SAMPLEFORMAT, &l.format);
    TIFFGetFieldDefaulted(t, TIFFTAG_PLANARCONFIG, &l.planar);
    TIFFGetFieldDefaulted(t, TIFFTAG_COMPRESSION, &l.compression);
    TIFFGetField(t, TIFFTAG_PHOTOMETRIC, &l.photometric);
    require_plausible_size(h.path, l.width, l.height, l.samples);
    const bool whole_numbers = (l.format == SAMPLEFORMAT_UINT || l.format == SAMPLEFORMAT_INT) &&
                               (l.bits == 8 || l.bits == 16 || l.bits == 32);
    const bool floats = l.format == SAMPLEFORMAT_IEEEFP && (l.bits == 32 || l.bits == 64);
    if (!whole_numbers && !floats)
        h.refuse(fmt::format("has {}-bit samples of kind {}; 8, 16 or 32-bit integers or 32 or 64-bit floats are read",
                             l.bits, l.format));
    if (l.photometric != PHOTOMETRIC_MINISBLACK && l.photometric != PHOTOMETRIC_MINISWHITE &&
        l.photometric != PHOTOMETRIC_RGB && l.photometric != PHOTOMETRIC_CFA)
        h.refuse(fmt::format("has colours of kind {}; grey and RGB are read", l.photometric));
    l.tiled = TIFFIsTiled(t) != 0;
    if (l.tiled) {
        TIFFGetField(t, TIFFTAG_TILEWIDTH, &l.chunk_width);
        TIFFGetField(t, TIFFTAG_TILELENGTH, &l.chunk_height);
    } else {
        l.chunk_width = l.width;
        TIFFGetFieldDefaulted(t, TIFFTAG_ROWSPERSTRIP, &l.chunk_height);
        l.chunk_height = std::min(l.chunk_height, l.height);
    }
    require_plausible_size(h.path, l.chunk_width, l.chunk_height, l.samples);
    const std::uint64_t chunk = l.tiled ? TIFFTileSize64(t) : TIFFStripSize64(t);
    const std::uint64_t least = std::uint64_t{l.chunk_width} * l.chunk_height * l.pixel_bytes();
    if (chunk < least || chunk > 2 * least + 4096) h.refuse("its strips do not fit its size");
    return l;
}

FrameSummary summary_of(const Handle& h, const Layout& l) {
    FrameSummary s;
    s.format = Format::tiff;
    s.width = static_cast<int>(l.width);
    s.height = static_cast<int>(l.height);
    s.planes = l.planes();
    s.bits = l.format == SAMPLEFORMAT_IEEEFP ? -static_cast<int>(l.bits) : static_cast<int>(l.bits);
    TIFF* t = h.tiff.get();
    const auto text = [&](std::uint32_t tag, const char* key) {
        const char* value = nullptr;
        if (TIFFGetField(t, tag, &value) && value && *value) s.header.set(key, std::string(value).substr(0, 400));
    };
    text(TIFFTAG_MAKE, "Exif.Make");
    text(TIFFTAG_MODEL, "Exif.Model");
    text(TIFFTAG_SOFTWARE, "Exif.Software");
    text(TIFFTAG_SOFTWARE, "Tiff.Software");
    text(TIFFTAG_IMAGEDESCRIPTION, "Exif.ImageDescription");
    text(TIFFTAG_DATETIME, "Exif.DateTime");
    std::uint16_t orientation = 0;
    if (TIFFGetField(t, TIFFTAG_ORIENTATION, &orientation))
        s.header.set("Exif.Orientation", static_cast<long long>(orientation));
    std::uint64_t exif = 0;
    if (TIFFGetField(t, TIFFTAG_EXIFIFD, &exif) && TIFFReadEXIFDirectory(t, exif)) {
        const auto number = [&](std::uint32_t tag, const char* key) {
            float value = 0;
            if (TIFFGetField(t, tag, &value)) s.header.set(key, static_cast<double>(value));
        };
        number(EXIFTAG_EXPOSURETIME, "Exif.ExposureTime");
        number(EXIFTAG_FOCALLENGTH, "Exif.FocalLength");
        number(EXIFTAG_FNUMBER, "Exif.FNumber");
        text(EXIFTAG_DATETIMEORIGINAL, "Exif.DateTimeOriginal");
        text(EXIFTAG_OFFSETTIMEORIGINAL, "Exif.OffsetTimeOriginal");
        text(EXIFTAG_LENSMODEL, "Exif.LensModel");
        std::uint16_t count = 0;
        std::uint16_t* iso = nullptr;
        if (TIFFGetField(t, EXIFTAG_ISOSPEEDRATINGS, &count, &iso) && count > 0 && iso)
            s.header.set("Exif.ISOSpeedRatings", static_cast<long long>(*iso));
    }
    return s;
}

template <class T>
void convert(const std::byte* from, std::size_t step, float* to, int count) {
    for (int i = 0; i < count; ++i, from += step) {
        T v;
        std::memcpy(&v, from, sizeof v);
        to[i] = static_cast<float>(v);
    }
}

void convert(const Layout& l, const std::byte* from, float* to, int count) {
    const std::size_t step = l.pixel_bytes();
    const bool with_sign = l.format == SAMPLEFORMAT_INT;
    if (l.format == SAMPLEFORMAT_IEEEFP)
        l.bits == 64 ? convert<double>(from, step, to, count) : convert<float>(from, step, to, count);
    else if (l.bits == 8)
        with_sign ? convert<std::int8_t>(from, step, to, count) : convert<std::uint8_t>(from, step, to, count);
    else if (l.bits == 16)
        with_sign ? convert<std::int16_t>(from, step, to, count) : convert<std::uint16_t>(from, step, to, count);
    else
        with_sign ? convert<std::int32_t>(from, step, to, count) : convert<std::uint32_t>(from, step, to, count);
    if (l.photometric == PHOTOMETRIC_MINISWHITE && l.format == SAMPLEFORMAT_UINT && l.bits <= 16)
        for (int i = 0; i < count; ++i)
            to[i] = static_cast<float>((1u << l.bits) - 1) - to[i];
}

class TiffFrame final : public FrameReader {
public:
    explicit TiffFrame(const std::filesystem::path& file)
        : handle_(file), layout_(read_layout(handle_)), summary_(summary_of(handle_, layout_)) {
        TIFFSetDirectory(handle_.tiff.get(), 0); // reading EXIF has moved it
    }
    const std::filesystem::path& path() const override { return handle_.path; }
    const Header& header() const override { return summary_.header; }
    int width() const override { return summary_.width; }
    int height() const override { return summary_.height; }
    int planes() const override { return summary_.planes; }
    const Layout& layout() const { return layout_; }
    const FrameSummary& summary() const { return summary_; }

    void read(const Region& r, View<float> out, int plane) const override {
        if (!bounds().contains(r) || plane < 0 || plane >= planes())
            throw UsageError(fmt::format("region {}x{}+{}+{} of plane {} lies outside the image", r.width, r.height,
                                         r.x, r.y, plane),
                             path(), {});
        if (r.empty()) return;
        const auto cw = static_cast<int>(layout_.chunk_width), ch = static_cast<int>(layout_.chunk_height);
        for (int cy = r.y / ch; cy <= (r.bottom() - 1) / ch; ++cy)
            for (int cx = r.x / cw; cx <= (r.right() - 1) / cw; ++cx) {
                const Region part = intersect(r, {cx * cw, cy * ch, cw, ch});
                const auto pixels = chunk(static_cast<std::uint32_t>(cx), static_cast<std::uint32_t>(cy), plane);
                for (int y = part.y; y < part.bottom(); ++y) {
                    const std::size_t first = (static_cast<std::size_t>(y - cy * ch) * layout_.chunk_width +
                                               static_cast<std::size_t>(part.x - cx * cw)) *
                                                  layout_.pixel_bytes() +
                                              (layout_.planar == PLANARCONFIG_CONTIG ? layout_.sample_bytes() : 0) *
                                                  static_cast<std::size_t>(plane);
                    convert(layout_, pixels->data() + first, out.row(y - r.y) + (part.x - r.x), part.width);
                }
            }
    }

private:
    using Bytes = std::vector<std::byte>;

    /// A decoded strip or tile; the last few are kept, since rectangles come in rows.
    std::shared_ptr<const Bytes> chunk(std::uint32_t cx, std::uint32_t cy, int plane) const {
        std::uint32_t index = cy * layout_.across() + cx;
        if (layout_.planar == PLANARCONFIG_SEPARATE)
            index += static_cast<std::uint32_t>(plane) * layout_.across() * layout_.down();
        const std::lock_guard lock(mutex_);
        for (auto it = kept_.begin(); it != kept_.end(); ++it)
            if (it->first == index) {
                kept_.splice(kept_.begin(), kept_, it);
                return kept_.front().second;
            }
        TIFF* t = handle_.tiff.get();
        const auto size = layout_.tiled ? TIFFTileSize(t) : TIFFStripSize(t);
        auto bytes = std::make_shared<Bytes>(static_cast<std::size_t>(size));
        const auto got = layout_.tiled ? TIFFReadEncodedTile(t, index, bytes->data(), size)
                                       : TIFFReadEncodedStrip(t, index, bytes->data(), size);
        const std::uint32_t rows = layout_.tiled
                                       ? layout_.chunk_height
                                       : std::min(layout_.chunk_height, layout_.height - cy * layout_.chunk_height);
        const auto need = static_cast<std::size_t>(rows) * layout_.chunk_width * layout_.pixel_bytes();
        if (got < 0 || static_cast<std::size_t>(got) < need) handle_.refuse("is damaged or truncated");
        kept_.emplace_front(index, bytes);
        constexpr std::size_t kKept = 32 << 20; // bytes
        while (kept_.size() > std::max<std::size_t>(2, kKept / static_cast<std::size_t>(size)))
            kept_.pop_back();
        return bytes;
    }

    Handle handle_;
    Layout layout_;
    FrameSummary summary_;
    mutable std::mutex mutex_;
    mutable std::list<std::pair<std::uint32_t, std::shared_ptr<const Bytes>>> kept_;
};

} // namespace

FrameSummary tiff_summary(const std::filesystem::path& file) {
    const Handle h(file);
    return summary_of(h, read_layout(h));
}

std::unique_ptr<FrameReader> open_tiff(const std::filesystem::path& file, PixelCache* cache) {
    auto frame = std::make_unique<TiffFrame>(file);
    const Layout& l = frame->layout();
    if (!l.in_one_piece()) return frame;
    const FrameSummary summary = frame->summary();
    const auto decode = [file] {
        const TiffFrame f(file);
        const int w = f.width(), h = f.height(), n = f.planes();
        Decoded out;
        Image all(w, h * n);
        for (int p = 0; p < n; ++p)
            f.read(f.bounds(), all.plane().crop({0, p * h, w, h}), p);
        if (f.layout().format != SAMPLEFORMAT_UINT || f.layout().bits > 16) {
            out.floats = std::move(all);
            return out;
        }
        out.counts = Raster<std::uint16_t>(w, h * n);
        std::transform(all.pixels().begin(), all.pixels().end(), out.counts.pixels().begin(),
                       [](float v) { return static_cast<std::uint16_t>(v); });
        return out;
    };
    return open_decoded(file, summary, decode, cache);
}

} // namespace kasane
