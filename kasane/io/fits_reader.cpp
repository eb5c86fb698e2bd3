#include <kasane/io/fits.hpp>
#include <kasane/io/fits_file.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/decode.hpp>
#include <kasane/io/fits_checksum.hpp>
#include <kasane/io/formats.hpp>
#include <kasane/io/gzip.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <bit>
#include <cctype>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <fitsio.h>
#include <fmt/format.h>
#include <mutex>
#include <unistd.h>

namespace kasane {

using namespace fits_file;

namespace {

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

std::string wrong_sums(bool data, bool whole) {
    return data    ? "the pixels do not match the DATASUM of the header"
           : whole ? "the file does not match the CHECKSUM of its header"
                   : "";
}

/// The sums of an extension whose pixels lie in the file as they are.
class PlainSums final : public SumCheck {
public:
    explicit PlainSums(fitsfile* f) {
        int status = 0;
        const auto text = [&](const char* key) {
            char value[FLEN_VALUE] = {};
            int missing = 0;
            fits_read_key(f, TSTRING, key, value, nullptr, &missing);
            return std::string(missing ? "" : value);
        };
        data_sum_ = text("DATASUM");
        check_sum_ = !text("CHECKSUM").empty();
        LONGLONG head = 0, start = 0, end = 0;
        fits_get_hduaddrll(f, &head, &start, &end, &status);
        fits_clear_errmsg();
        if (status) {
            data_sum_.clear();
            check_sum_ = false;
            return;
        }
        head_ = static_cast<std::uint64_t>(head);
        start_ = static_cast<std::uint64_t>(start);
        end_ = static_cast<std::uint64_t>(end);
    }
    void add(std::span<const std::byte> bytes) override {
        const auto part = [&](std::uint64_t from, std::uint64_t to) {
            const std::uint64_t first = std::clamp(from, at_, at_ + bytes.size()) - at_,
                                last = std::clamp(to, at_, at_ + bytes.size()) - at_;
            return bytes.subspan(static_cast<std::size_t>(first), static_cast<std::size_t>(last - first));
        };
        header_.add(part(head_, start_));
        data_.add(part(start_, end_)); // where the fill behind the pixels is missing: zeros add nothing
        at_ += bytes.size();
    }
    std::string wrong() const override {
        const std::uint32_t found = data_.result();
        FitsSum all = header_;
        all.add_word(found);
        const bool agrees = all.result() == 0 || all.result() == 0xffffffffu;
        return wrong_sums(!data_sum_.empty() && std::strtod(data_sum_.c_str(), nullptr) != found,
                          check_sum_ && !agrees);
    }

private:
    std::string data_sum_;
    bool check_sum_ = false;                                ///< there is one
    std::uint64_t head_ = 0, start_ = 0, end_ = 0, at_ = 0; ///< places in the file
    FitsSum header_, data_;
};

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

    void in_passing() const override {
        if (input_) input_->in_passing();
    }

    std::uint64_t mapped_bytes(const Region& region) const override {
        return input_ && is_scattered(region)
                   ? static_cast<std::uint64_t>(region.height) * static_cast<std::uint64_t>(width()) * sample_bytes()
                   : 0;
    }

    std::string check_sums() const override {
        if (input_) { // as fits_verify_chksum does, which takes many times as long
            const auto check = sum_check();
            input_->look_through([&](std::span<const std::byte> piece) { check->add(piece); });
            return check->wrong();
        }
        int status = 0, data = 0, whole = 0;
        const OpenFits open(path_);
        find_image(open.get(), path_, extension_);
        fits_verify_chksum(open.get(), &data, &whole, &status);
        fits_clear_errmsg();
        if (status) return {};
        return wrong_sums(data < 0, whole < 0);
    }

    std::unique_ptr<SumCheck> sum_check() const override {
        if (!input_) return nullptr;
        const OpenFits open(path_);
        find_image(open.get(), path_, extension_);
        return std::make_unique<PlainSums>(open.get());
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
        const auto row = [&](int y) { return data + place(region.x, region.y + y, plane); };
        // Rows lie in pages of their own, which no processor foresees.
        constexpr int kAhead = 4;         // rows
        constexpr std::size_t kLine = 64; // bytes
        const std::size_t bytes = static_cast<std::size_t>(region.width) * sample_bytes();
        for (int y = 0; y < region.height; ++y) {
            if (y + kAhead < region.height)
                for (std::size_t at = 0; at < bytes; at += kLine)
                    __builtin_prefetch(row(y + kAhead) + at);
            decode_row(row(y), out.row(y), region.width, layout_);
        }
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
