#include <kasane/io/fits.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/decode.hpp>
#include <kasane/io/formats.hpp>
#include <kasane/io/mapped_file.hpp>

#include <bit>
#include <cctype>
#include <cstring>
#include <fitsio.h>
#include <fmt/format.h>
#include <fstream>
#include <mutex>

namespace kasane {

namespace {

struct CloseFits {
    void operator()(fitsfile* f) const {
        int status = 0;
        fits_close_file(f, &status);
    }
};
using FitsHandle = std::unique_ptr<fitsfile, CloseFits>;

std::string fits_reason(int status) {
    char text[FLEN_STATUS] = {};
    fits_get_errstatus(status, text);
    return text;
}

[[noreturn]] void refuse(const std::filesystem::path& file, const std::string& what, const std::string& remedy) {
    throw InputError(what, file, remedy);
}

FitsHandle open_handle(const std::filesystem::path& file) {
    if (std::filesystem::is_directory(file)) refuse(file, "is a folder, not a FITS file", "Rename or remove it");
    std::error_code failed;
    const auto size = std::filesystem::file_size(file, failed);
    if (failed) refuse(file, "cannot be read: " + failed.message(), "Check that the file exists and may be read");
    if (size == 0) refuse(file, "is empty", "Copy it again from the camera, or remove it");
    fitsfile* raw = nullptr;
    int status = 0;
    fits_open_diskfile(&raw, file.c_str(), READONLY, &status); // no extended file name syntax: names may hold brackets
    if (status) {
        fits_clear_errmsg();
        if (status == FILE_NOT_OPENED) refuse(file, "cannot be opened", "Check that the file may be read");
        refuse(file, fmt::format("is not a FITS file, though its name says so ({})", fits_reason(status)),
               "Copy it again from the camera, or remove it");
    }
    return FitsHandle(raw);
}

/// Moves to the first HDU with a two- or three-dimensional image, or to the named one.
void find_image(fitsfile* f, const std::filesystem::path& file, const std::string& name) {
    int status = 0, count = 0;
    fits_get_num_hdus(f, &count, &status);
    for (int i = 1; i <= count && !status; ++i) {
        int type = 0, axes = 0;
        fits_movabs_hdu(f, i, &type, &status);
        if (status || type != IMAGE_HDU) continue;
        fits_get_img_dim(f, &axes, &status);
        if (status || axes < 2) continue;
        if (name.empty()) return;
        char found[FLEN_VALUE] = {};
        int missing = 0;
        fits_read_key(f, TSTRING, "EXTNAME", found, nullptr, &missing);
        if (!missing && name == found) return;
    }
    fits_clear_errmsg();
    if (!name.empty()) refuse(file, fmt::format("has no image named {}", name), "Check that Kasane wrote this file");
    if (status) refuse(file, fmt::format("is damaged: {}", fits_reason(status)), "Copy it again from the camera");
    refuse(file, "holds no image", "Remove it, or move it out of the folder");
}

/// The text of a quoted FITS string: quotes off, '' is one quote, trailing blanks do not count.
std::string unquoted(std::string_view value) {
    std::string text;
    for (std::size_t i = 1; i < value.size(); ++i) {
        if (value[i] == '\'' && (i + 1 >= value.size() || value[++i] != '\'')) break;
        text += value[i];
    }
    text.erase(text.find_last_not_of(' ') + 1);
    return text;
}

Header read_cards(fitsfile* f) {
    int status = 0, count = 0;
    fits_get_hdrspace(f, &count, nullptr, &status);
    Header header;
    for (int i = 1; i <= count; ++i) {
        char key[FLEN_KEYWORD] = {}, value[FLEN_VALUE] = {}, comment[FLEN_COMMENT] = {};
        status = 0;
        if (fits_read_keyn(f, i, key, value, comment, &status)) continue; // a damaged card harms itself only
        Card card{key, value, comment, false};
        if (card.key == "HISTORY" || card.key == "COMMENT") {
            card.value = comment;
            card.comment.clear();
            card.is_text = true;
        } else if (!card.value.empty() && card.value.front() == '\'') {
            card.value = unquoted(value);
            card.is_text = true;
        }
        header.add(std::move(card));
    }
    fits_clear_errmsg();
    return header;
}

struct Layout {
    int bits = 0;
    int width = 0, height = 0, planes = 1;
    std::int64_t data_start = 0;
    double scale = 1, zero = 0;
    bool has_blank = false;
    std::int64_t blank = 0;
    bool compressed = false;
    bool bottom_up = false; ///< ROWORDER: the first stored row is the lowest of the picture
};

bool is_bottom_up(const char* order) {
    std::string letters;
    for (; *order; ++order)
        if (std::isalpha(static_cast<unsigned char>(*order)))
            letters += static_cast<char>(std::toupper(static_cast<unsigned char>(*order)));
    return letters == "BOTTOMUP";
}

bool is_gzip(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    return in.get() == 0x1f && in.get() == 0x8b;
}

Layout read_layout(fitsfile* f, const std::filesystem::path& file) {
    Layout l;
    int status = 0, axes = 0;
    long size[3] = {0, 0, 1};
    fits_get_img_param(f, 3, &l.bits, &axes, size, &status);
    LONGLONG head = 0, data = 0, end = 0;
    fits_get_hduaddrll(f, &head, &data, &end, &status);
    if (status) refuse(file, fmt::format("is damaged: {}", fits_reason(status)), "Copy it again from the camera");
    if (axes > 3) refuse(file, fmt::format("has {} axes; 2 or 3 are expected", axes), "Export it as a plain image");
    if (axes == 2) size[2] = 1;
    for (const long s : {size[0], size[1], size[2]})
        if (s < 1 || s > kLargestSide)
            refuse(file, fmt::format("its header gives a size of {} x {} x {} pixels", size[0], size[1], size[2]),
                   "The header is damaged; copy the file again");
    l.width = static_cast<int>(size[0]);
    l.height = static_cast<int>(size[1]);
    l.planes = static_cast<int>(size[2]);
    l.data_start = data;
    const auto optional_key = [&](const char* key, int type, void* value) {
        int missing = 0;
        fits_read_key(f, type, key, value, nullptr, &missing);
        fits_clear_errmsg();
        return missing == 0;
    };
    optional_key("BSCALE", TDOUBLE, &l.scale);
    optional_key("BZERO", TDOUBLE, &l.zero);
    long long blank = 0;
    l.has_blank = l.bits > 0 && optional_key("BLANK", TLONGLONG, &blank);
    l.blank = blank;
    l.compressed = fits_is_compressed_image(f, &status) != 0;
    char order[FLEN_VALUE] = {};
    if (optional_key("ROWORDER", TSTRING, order)) l.bottom_up = is_bottom_up(order);
    return l;
}

void require_complete(const Layout& l, const std::filesystem::path& file) {
    const auto pixels = static_cast<std::uint64_t>(l.width) * static_cast<std::uint64_t>(l.height) *
                        static_cast<std::uint64_t>(l.planes);
    const std::uint64_t need =
        static_cast<std::uint64_t>(l.data_start) + pixels * static_cast<std::uint64_t>(std::abs(l.bits) / 8);
    const std::uint64_t have = std::filesystem::file_size(file);
    if (!l.compressed && have < need && !is_gzip(file))
        refuse(file,
               fmt::format("is truncated: {} of {} bytes are there ({:.0f} %)", have, need,
                           100.0 * static_cast<double>(have) / static_cast<double>(need)),
               "Copy it again from the camera, or remove it");
}

template <class U>
U big_endian(const std::byte* p) {
    U u;
    std::memcpy(&u, p, sizeof u);
    if constexpr (sizeof(U) == 2) u = __builtin_bswap16(u);
    if constexpr (sizeof(U) == 4) u = __builtin_bswap32(u);
    if constexpr (sizeof(U) == 8) u = __builtin_bswap64(u);
    return u;
}

template <class Stored, class Bits>
void decode(const std::byte* from, float* to, int count, const Layout& l) {
    const bool plain = l.scale == 1 && l.zero == 0;
    for (int i = 0; i < count; ++i) {
        const auto v = std::bit_cast<Stored>(big_endian<Bits>(from + static_cast<std::size_t>(i) * sizeof(Bits)));
        to[i] = plain ? static_cast<float>(v) : static_cast<float>(static_cast<double>(v) * l.scale + l.zero);
        if constexpr (std::is_integral_v<Stored>)
            if (l.has_blank && static_cast<std::int64_t>(v) == l.blank) to[i] = kNoData;
    }
}

void decode_row(const std::byte* from, float* to, int count, const Layout& l) {
    switch (l.bits) {
    case 8:
        return decode<std::uint8_t, std::uint8_t>(from, to, count, l);
    case 16:
        if (l.scale == 1 && l.zero == 32768 && !l.has_blank) return decode_u16(from, to, count);
        return decode<std::int16_t, std::uint16_t>(from, to, count, l);
    case 32:
        return decode<std::int32_t, std::uint32_t>(from, to, count, l);
    case 64:
        return decode<std::int64_t, std::uint64_t>(from, to, count, l);
    case -32:
        if (l.scale == 1 && l.zero == 0) return decode_f32(from, to, count);
        return decode<float, std::uint32_t>(from, to, count, l);
    default:
        return decode<double, std::uint64_t>(from, to, count, l);
    }
}

class FitsReader final : public FrameReader {
public:
    FitsReader(const std::filesystem::path& file, const std::string& extension) : path_(file), extension_(extension) {
        FitsHandle handle = open_handle(file);
        find_image(handle.get(), file, extension);
        header_ = read_cards(handle.get());
        layout_ = read_layout(handle.get(), file);
        require_complete(layout_, file);
        if (layout_.compressed || is_gzip(file)) {
            handle_ = std::move(handle); // cfitsio decompresses; one thread at a time
        } else {
            mapped_ = std::make_unique<MappedFile>(file);
        }
    }

    const std::filesystem::path& path() const override { return path_; }
    const Header& header() const override { return header_; }
    int width() const override { return layout_.width; }
    int height() const override { return layout_.height; }
    int planes() const override { return layout_.planes; }

    void read(const Region& region, View<float> out, int plane) const override {
        if (!bounds().contains(region) || plane < 0 || plane >= planes())
            throw UsageError(fmt::format("region {}x{}+{}+{} of plane {} lies outside the image", region.width,
                                         region.height, region.x, region.y, plane),
                             path_, {});
        if (handle_) return read_compressed(region, out, plane);
        mapped_->check_still_whole();
        const std::size_t bytes = static_cast<std::size_t>(std::abs(layout_.bits)) / 8;
        for (int y = 0; y < region.height; ++y) {
            const std::size_t row = static_cast<std::size_t>(plane) * static_cast<std::size_t>(height()) +
                                    static_cast<std::size_t>(stored_row(region.y + y));
            const std::size_t at = row * static_cast<std::size_t>(width()) + static_cast<std::size_t>(region.x);
            decode_row(mapped_->data() + layout_.data_start + at * bytes, out.row(y), region.width, layout_);
        }
    }

    void release() const override {
        if (mapped_) mapped_->release();
    }

    std::uint64_t mapped_bytes(const Region& region) const override {
        return mapped_ ? static_cast<std::uint64_t>(region.height) * static_cast<std::uint64_t>(width()) *
                             static_cast<std::uint64_t>(std::abs(layout_.bits) / 8)
                       : 0;
    }

    std::string check_sums() const override {
        int status = 0, data = 0, whole = 0;
        FitsHandle handle = open_handle(path_);
        find_image(handle.get(), path_, extension_);
        fits_verify_chksum(handle.get(), &data, &whole, &status);
        fits_clear_errmsg();
        if (status) return {};
        if (data < 0) return "the pixels do not match the DATASUM of the header";
        if (whole < 0) return "the file does not match the CHECKSUM of its header";
        return {};
    }

private:
    int stored_row(int y) const { return layout_.bottom_up ? height() - 1 - y : y; }

    void read_compressed(const Region& r, View<float> out, int plane) const {
        const std::lock_guard lock(handle_mutex_);
        const int low = layout_.bottom_up ? height() - r.bottom() : r.y;
        long first[3] = {r.x + 1, low + 1, plane + 1}, last[3] = {r.right(), low + r.height, plane + 1},
             step[3] = {1, 1, 1};
        std::vector<float> buffer(static_cast<std::size_t>(r.area()));
        float nodata = kNoData;
        int status = 0, any = 0;
        fits_read_subset(handle_.get(), TFLOAT, first, last, step, &nodata, buffer.data(), &any, &status);
        if (status) {
            fits_clear_errmsg();
            throw InputError("cannot be decompressed: " + fits_reason(status), path_, "Copy it again from the camera");
        }
        for (int y = 0; y < r.height; ++y)
            std::copy_n(buffer.data() + static_cast<std::ptrdiff_t>(layout_.bottom_up ? r.height - 1 - y : y) * r.width,
                        r.width, out.row(y));
    }

    std::filesystem::path path_;
    std::string extension_;
    Header header_;
    Layout layout_;
    std::unique_ptr<MappedFile> mapped_;
    FitsHandle handle_;
    mutable std::mutex handle_mutex_;
};

} // namespace

std::unique_ptr<FrameReader> open_fits(const std::filesystem::path& file, PixelCache* cache) {
    auto frame = std::make_unique<FitsReader>(file, std::string{});
    if (!cache || !is_gzip(file)) return frame;
    FrameSummary summary = read_fits_summary(file);
    return open_decoded(
        file, std::move(summary),
        [file] {
            const FitsReader f(file, {});
            Decoded out{{}, Image(f.width(), f.height() * f.planes())};
            for (int p = 0; p < f.planes(); ++p)
                f.read(f.bounds(), out.floats.plane().crop({0, p * f.height(), f.width(), f.height()}), p);
            return out;
        },
        cache);
}

std::unique_ptr<FrameReader> open_fits(const std::filesystem::path& file, const std::string& extension) {
    return std::make_unique<FitsReader>(file, extension);
}

FrameSummary read_fits_summary(const std::filesystem::path& file) {
    FitsHandle handle = open_handle(file);
    find_image(handle.get(), file, {});
    const Layout l = read_layout(handle.get(), file);
    require_complete(l, file);
    return {Format::fits, read_cards(handle.get()), l.width, l.height, l.planes, l.bits, true};
}

} // namespace kasane
