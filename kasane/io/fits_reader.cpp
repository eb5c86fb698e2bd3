#include <kasane/io/fits.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/decode.hpp>
#include <kasane/io/formats.hpp>
#include <kasane/io/gzip.hpp>
#include <kasane/io/input_file.hpp>

#include <bit>
#include <cctype>
#include <cstring>
#include <fcntl.h>
#include <fitsio.h>
#include <fmt/format.h>
#include <mutex>
#include <unistd.h>

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

constexpr std::uint64_t kMostUnpacked = 8ull << 30; ///< bytes of a file under gzip; no camera makes them so large

bool is_gzip(const std::filesystem::path& file) {
    unsigned char head[2] = {};
    const int fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK); // every header that is read passes here
    if (fd < 0) return false;
    const ssize_t got = ::read(fd, head, sizeof head);
    ::close(fd);
    return got == 2 && head[0] == 0x1f && head[1] == 0x8b;
}

/// A file that cfitsio reads, and its bytes where it had to be unpacked first.
struct OpenFits {
    std::vector<std::byte> unpacked;
    void* memory = nullptr; ///< as cfitsio wants to know it: where the bytes are, and how many
    std::size_t memory_size = 0;
    std::uint64_t on_disk = 0;
    FitsHandle handle;

    explicit OpenFits(const std::filesystem::path& file) {
        std::error_code failed;
        if (std::filesystem::is_directory(file, failed))
            refuse(file, "is a folder, not a FITS file", "Rename or remove it");
        const auto size = std::filesystem::file_size(file, failed);
        if (failed && std::filesystem::exists(file))
            refuse(file, "is not a file", "Rename or remove it"); // a pipe, a device
        if (failed) refuse(file, "cannot be read: " + failed.message(), "Check that the file exists and may be read");
        if (size == 0) refuse(file, "is empty", "Copy it again from the camera, or remove it");
        on_disk = size;
        fitsfile* raw = nullptr;
        int status = 0;
        if (is_gzip(file)) { // unpacked here: cfitsio does not look at the check sum, nor whether the end is there
            unpacked = gunzip_file(file, kMostUnpacked);
            memory = unpacked.data();
            memory_size = unpacked.size();
            fits_open_memfile(&raw, "unpacked", READONLY, &memory, &memory_size, 0, nullptr, &status);
        } else {
            fits_open_diskfile(&raw, file.c_str(), READONLY, &status); // without the extended syntax: names may hold []
        }
        handle.reset(raw);
        if (!status) return;
        fits_clear_errmsg();
        if (status == FILE_NOT_OPENED) refuse(file, "cannot be opened", "Check that the file may be read");
        refuse(file, fmt::format("is not a FITS file, though its name says so ({})", fits_reason(status)),
               "Copy it again from the camera, or remove it");
    }
    OpenFits(OpenFits&&) = delete;
    fitsfile* get() const { return handle.get(); }
    std::uint64_t size() const { return memory ? memory_size : on_disk; }
};

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
    require_plausible_size(file, size[0], size[1], std::min(size[2], 16L));
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

/// cfitsio unpacks the tiles of a compressed image without end if one is cut short (FITS Standard 4.0, section 10.4:
/// gzip members in a table's column): each is unpacked once here, within the size of a tile.
void require_sound_tiles(fitsfile* f, const std::filesystem::path& file) {
    const auto number = [&](const char* key) {
        LONGLONG value = 0;
        int status = 0;
        fits_read_key(f, TLONGLONG, key, &value, nullptr, &status);
        return status ? 0 : std::max<LONGLONG>(value, 0);
    };
    char method[FLEN_VALUE] = {};
    int status = 0;
    fits_read_key(f, TSTRING, "ZCMPTYPE", method, nullptr, &status);
    const LONGLONG rows = number("NAXIS2");
    std::uint64_t pixels = 1;
    for (const auto& [tile, side] : {std::pair{"ZTILE1", "ZNAXIS1"}, {"ZTILE2", nullptr}, {"ZTILE3", nullptr}}) {
        LONGLONG n = number(tile);
        if (n == 0 && side) n = number(side);
        pixels *= static_cast<std::uint64_t>(std::clamp<LONGLONG>(n, 1, kLargestSide));
        pixels = std::min<std::uint64_t>(pixels, static_cast<std::uint64_t>(kMostSamples));
    }
    const std::uint64_t file_size = std::filesystem::file_size(file);
    std::vector<std::byte> packed;
    const bool gzip = std::string_view(method).starts_with("GZIP");
    for (const char* name : {gzip ? "COMPRESSED_DATA" : "", "GZIP_COMPRESSED_DATA"}) {
        int column = 0, missing = 0;
        if (!*name || fits_get_colnum(f, CASEINSEN, const_cast<char*>(name), &column, &missing)) continue;
        for (LONGLONG row = 1; row <= rows; ++row) {
            LONGLONG length = 0, offset = 0;
            status = 0;
            fits_read_descriptll(f, column, row, &length, &offset, &status);
            if (!status && length == 0) continue;
            std::string problem = "it cannot be read";
            if (!status && length > 0 && static_cast<std::uint64_t>(length) <= kMostUnpacked) {
                packed.resize(static_cast<std::size_t>(
                    std::min<std::uint64_t>(static_cast<std::uint64_t>(length), 2 * file_size + (1u << 20))));
                int any = 0;
                fits_read_col(f, TBYTE, column, row, 1, static_cast<LONGLONG>(packed.size()), nullptr, packed.data(),
                              &any, &status);
                if (!status) problem = gzip_problem(packed, pixels * sizeof(double) + 64);
            }
            if (problem.empty()) continue;
            fits_clear_errmsg();
            refuse(file, fmt::format("is damaged: compressed tile {} of {} is wrong, {}", row, rows, problem),
                   "Copy it again from where it was made, or remove it");
        }
    }
    fits_clear_errmsg();
}

/// `have`: bytes of the file, unpacked if it was.
void require_complete(const Layout& l, const std::filesystem::path& file, std::uint64_t have) {
    const auto pixels = static_cast<std::uint64_t>(l.width) * static_cast<std::uint64_t>(l.height) *
                        static_cast<std::uint64_t>(l.planes);
    const std::uint64_t need =
        static_cast<std::uint64_t>(l.data_start) + pixels * static_cast<std::uint64_t>(std::abs(l.bits) / 8);
    if (!l.compressed && have < need)
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
        auto open = std::make_unique<OpenFits>(file);
        find_image(open->get(), file, extension);
        header_ = read_cards(open->get());
        layout_ = read_layout(open->get(), file);
        require_complete(layout_, file, open->size());
        if (layout_.compressed || open->memory)
            open_ = std::move(open); // cfitsio decompresses; one thread at a time
        else
            input_ = std::make_unique<InputFile>(file);
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
        if (region.empty()) return;
        if (open_) return read_compressed(region, out, plane);
        const auto row_bytes = static_cast<std::uint64_t>(region.width) * sample_bytes();
        if (is_scattered(region))
            read_mapped(region, out, plane);
        else if (region.width == width())
            read_whole_rows(region, out, plane, row_bytes);
        else
            for (int y = 0; y < region.height; ++y)
                read_rows({place(region.x, region.y + y, plane), row_bytes, 1, region.width}, out.row(y), 0);
    }

    void release() const override {
        if (input_) input_->release();
    }

    std::uint64_t mapped_bytes(const Region& region) const override {
        return input_ && is_scattered(region)
                   ? static_cast<std::uint64_t>(region.height) * static_cast<std::uint64_t>(width()) * sample_bytes()
                   : 0;
    }

    std::string check_sums() const override {
        int status = 0, data = 0, whole = 0;
        const OpenFits open(path_);
        find_image(open.get(), path_, extension_);
        fits_verify_chksum(open.get(), &data, &whole, &status);
        fits_clear_errmsg();
        if (status) return {};
        if (data < 0) return "the pixels do not match the DATASUM of the header";
        if (whole < 0) return "the file does not match the CHECKSUM of its header";
        return {};
    }

private:
    int stored_row(int y) const { return layout_.bottom_up ? height() - 1 - y : y; }
    std::uint64_t sample_bytes() const { return static_cast<std::uint64_t>(std::abs(layout_.bits) / 8); }
    /// Short rows far apart: a system call for each would cost more than the work on them.
    bool is_scattered(const Region& r) const {
        constexpr std::uint64_t kLongRow = 16 << 10; // bytes
        return r.width != width() && r.height > 1 && static_cast<std::uint64_t>(r.width) * sample_bytes() < kLongRow;
    }
    /// Where a sample stands in the file.
    std::uint64_t place(int x, int y, int plane) const {
        const std::uint64_t row = static_cast<std::uint64_t>(plane) * static_cast<std::uint64_t>(height()) +
                                  static_cast<std::uint64_t>(stored_row(y));
        return static_cast<std::uint64_t>(layout_.data_start) +
               (row * static_cast<std::uint64_t>(width()) + static_cast<std::uint64_t>(x)) * sample_bytes();
    }

    void read_mapped(const Region& region, View<float> out, int plane) const {
        const std::byte* data = input_->mapped();
        for (int y = 0; y < region.height; ++y)
            decode_row(data + place(region.x, region.y + y, plane), out.row(y), region.width, layout_);
        input_->check();
    }

    /// Rows that follow one another in the file.
    struct Rows {
        std::uint64_t at, bytes; ///< where they begin in the file; of one
        int count, width;
    };
    /// Into rows `step` floats apart in memory.
    void read_rows(const Rows& wanted, float* out, std::ptrdiff_t step) const {
        const auto& [at, row_bytes, rows, width] = wanted;
        thread_local std::vector<std::byte> buffer;
        buffer.resize(static_cast<std::size_t>(row_bytes) * static_cast<std::size_t>(rows));
        input_->read(at, buffer);
        for (int y = 0; y < rows; ++y)
            decode_row(buffer.data() + static_cast<std::size_t>(y) * row_bytes, out + y * step, width, layout_);
    }

    void read_whole_rows(const Region& region, View<float> out, int plane, std::uint64_t row_bytes) const {
        constexpr std::uint64_t kAtOnce = 128 << 10; // bytes that the processor keeps at hand
        const int most = static_cast<int>(std::max<std::uint64_t>(1, kAtOnce / row_bytes));
        for (int y = 0; y < region.height; y += most) {
            const int rows = std::min(most, region.height - y), last = region.y + y + rows - 1;
            if (layout_.bottom_up)
                read_rows({place(0, last, plane), row_bytes, rows, width()}, out.row(y + rows - 1), -out.stride);
            else
                read_rows({place(0, region.y + y, plane), row_bytes, rows, width()}, out.row(y), out.stride);
        }
    }

    void read_compressed(const Region& r, View<float> out, int plane) const {
        const std::lock_guard lock(handle_mutex_);
        if (layout_.compressed && !tiles_checked_) {
            require_sound_tiles(open_->get(), path_);
            tiles_checked_ = true;
        }
        const int low = layout_.bottom_up ? height() - r.bottom() : r.y;
        long first[3] = {r.x + 1, low + 1, plane + 1}, last[3] = {r.right(), low + r.height, plane + 1},
             step[3] = {1, 1, 1};
        std::vector<float> buffer(static_cast<std::size_t>(r.area()));
        float nodata = kNoData;
        int status = 0, any = 0;
        fits_read_subset(open_->get(), TFLOAT, first, last, step, &nodata, buffer.data(), &any, &status);
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
    std::unique_ptr<InputFile> input_;
    std::unique_ptr<OpenFits> open_;
    mutable std::mutex handle_mutex_;
    mutable bool tiles_checked_ = false;
};

} // namespace

std::unique_ptr<FrameReader> open_fits(const std::filesystem::path& file, PixelCache* cache) {
    if (!cache || !is_gzip(file)) return std::make_unique<FitsReader>(file, std::string{});
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
    const OpenFits open(file);
    find_image(open.get(), file, {});
    const Layout l = read_layout(open.get(), file);
    require_complete(l, file, open.size());
    return {Format::fits, read_cards(open.get()), l.width, l.height, l.planes, l.bits, true};
}

} // namespace kasane
