#include <kasane/io/fits.hpp>

#include <kasane/base/early_writing.hpp>
#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/decode.hpp>
#include <kasane/io/fits_checksum.hpp>
#include <kasane/io/fits_file.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <cerrno>
#include <fcntl.h>
#include <fitsio.h>
#include <fmt/format.h>
#include <span>
#include <system_error>
#include <unistd.h>
#include <utility>
#include <vector>

namespace kasane {

namespace {

/// A file that is made anew.
class NewFile {
public:
    explicit NewFile(const std::filesystem::path& file)
        : descriptor_(::open(file.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666)),
          error_(descriptor_ < 0 ? errno : 0) {}
    ~NewFile() {
        if (descriptor_ >= 0) ::close(descriptor_);
    }
    NewFile(const NewFile&) = delete;
    NewFile& operator=(const NewFile&) = delete;
    /// 0, or the first thing that went wrong, as errno has it.
    int error() const { return error_; }
    void write(std::uint64_t at, std::span<const std::byte> bytes) {
        while (!error_ && !bytes.empty()) {
            const ssize_t n = ::pwrite(descriptor_, bytes.data(), bytes.size(), static_cast<off_t>(at));
            if (n < 0 && errno == EINTR) continue;
            if (n <= 0) error_ = n < 0 ? errno : ENOSPC;
            if (n <= 0) return;
            at += static_cast<std::uint64_t>(n);
            bytes = bytes.subspan(static_cast<std::size_t>(n));
        }
    }

private:
    int descriptor_, error_;
};

constexpr std::size_t kFitsBlock = 2880; // bytes: headers and pixels fill whole ones

std::uint64_t whole_blocks(std::uint64_t bytes) {
    return (bytes + kFitsBlock - 1) / kFitsBlock * kFitsBlock;
}

/// A FITS file under construction: cfitsio makes the headers, in memory; pixels are turned to what a file holds piece
/// by piece, and everything is put where it belongs.
class FitsOutput {
public:
    FitsOutput(const std::filesystem::path& temporary, const std::filesystem::path& final_path)
        : temporary_(temporary), final_(final_path) {
        fits_file::start_cfitsio();
        fits_create_file(&headers_, "mem://", &status_);
        check();
    }
    ~FitsOutput() {
        int ignored = 0;
        if (headers_) fits_close_file(headers_, &ignored);
        fits_clear_errmsg();
    }
    FitsOutput(const FitsOutput&) = delete;
    FitsOutput& operator=(const FitsOutput&) = delete;

    /// The pixels must stay until the file is closed.
    template <class T>
    void image(View<const T> pixels, const Header& header, const std::string& name, int planes, double unit = 1) {
        constexpr bool kFloat = std::is_same_v<T, float>;
        Unit u{{}, {}, pixels.width, pixels.height, planes};
        if constexpr (kFloat)
            u.values = pixels;
        else
            u.counts = pixels;
        fits_create_img(headers_, kFloat ? FLOAT_IMG : USHORT_IMG, 0, nullptr, &status_);
        check();
        if (!name.empty())
            fits_update_key(headers_, TSTRING, "EXTNAME", const_cast<char*>(name.c_str()), nullptr, &status_);
        for (const Card& card : header.cards())
            if (!tells_layout(card.key)) write_card(card);
        if (unit != 1) { // integers are stored, each worth so much
            constexpr double kOffset = 32768;
            double zero = kOffset * unit;
            fits_update_key(headers_, TDOUBLE, "BSCALE", &unit, "value of a count", &status_);
            fits_update_key(headers_, TDOUBLE, "BZERO", &zero, "value of a stored zero", &status_);
        }
        set_sums("0000000000000000", "0"); // what stands there once all is known has the same length
        check();
        units_.push_back(u);
    }

    void close() {
        NewFile file(temporary_);
        EarlyWriting early(temporary_);
        std::uint64_t at = 0;
        for (std::size_t k = 0; k < units_.size(); ++k) {
            Unit& u = units_[k];
            fits_movabs_hdu(headers_, static_cast<int>(k) + 1, nullptr, &status_);
            u.head = at;
            u.data = at + header_of(u).size();
            u.end = u.data + whole_blocks(u.row_bytes() * static_cast<std::uint64_t>(u.rows()));
            const FitsSum sum = write_pixels(file, early, u);
            u.header = header_with_sums(u, sum.result());
            file.write(at, std::as_bytes(std::span(u.header)));
            u.sum = sum.result();
            at = u.end;
        }
        if (file.error()) cannot_write(std::generic_category().message(file.error()));
        require_as_written();
    }

private:
    struct Unit {
        View<const float> values; ///< or
        View<const std::uint16_t> counts;
        int width, height, planes;                 ///< planes lie one below the other
        std::uint64_t head = 0, data = 0, end = 0; ///< places in the file
        std::string header{};
        std::uint32_t sum = 0; ///< of the pixels

        int rows() const { return height * planes; }
        std::size_t row_bytes() const {
            return static_cast<std::size_t>(width) * (values.data ? sizeof(float) : sizeof(std::uint16_t));
        }
        /// As a file holds them.
        void encode(int row, std::byte* to) const {
            if (values.data)
                encode_f32(values.row(row), to, width);
            else
                encode_u16(counts.row(row), to, width);
        }
    };

    FitsSum write_pixels(NewFile& file, EarlyWriting& early, const Unit& u) {
        constexpr std::size_t kAtOnce = 256 << 10, kWord = 4; // bytes: what the processor keeps at hand
        const std::size_t row = u.row_bytes();
        const int most = 2 * static_cast<int>(std::max<std::size_t>(1, kAtOnce / 2 / row)); // whole words
        std::vector<std::byte> piece(static_cast<std::size_t>(most) * row + kFitsBlock);
        FitsSum sum;
        for (int y = 0; y < u.rows(); y += most) {
            const int rows = std::min(most, u.rows() - y);
            for (int k = 0; k < rows; ++k)
                u.encode(y + k, piece.data() + static_cast<std::size_t>(k) * row);
            const std::uint64_t from = static_cast<std::uint64_t>(y) * row;
            std::size_t bytes = static_cast<std::size_t>(rows) * row;
            if (y + rows == u.rows()) { // up to the end of the block
                const std::size_t fill = static_cast<std::size_t>(whole_blocks(from + bytes) - from) - bytes;
                std::fill_n(piece.begin() + static_cast<std::ptrdiff_t>(bytes), fill, std::byte{0});
                bytes += fill;
            }
            static_assert(kFitsBlock % kWord == 0);
            const auto all = std::span(std::as_const(piece)).first(bytes);
            sum.add(all);
            file.write(u.data + from, all);
            if (file.error()) break;
            early.written(bytes);
        }
        return sum;
    }

    void set_sums(std::string check, std::string data) {
        fits_update_key(headers_, TSTRING, "CHECKSUM", check.data(), "HDU checksum", &status_);
        fits_update_key(headers_, TSTRING, "DATASUM", data.data(), "data unit checksum", &status_);
    }

    /// DATASUM and CHECKSUM (FITS Standard 4.0, appendix J), without the time stamps that cfitsio's own call puts into
    /// their comments: equal results must have equal bytes.
    std::string header_with_sums(const Unit& u, std::uint32_t data) {
        set_sums("0000000000000000", fmt::format("{}", data));
        const std::string header = header_of(u);
        FitsSum whole;
        whole.add(std::as_bytes(std::span(header)));
        whole.add_word(data);
        char encoded[FLEN_VALUE] = {};
        fits_encode_chksum(whole.result(), 1, encoded);
        set_sums(encoded, fmt::format("{}", data));
        return header_of(u);
    }

    /// All cards of the header that cfitsio has open, with the size of the pixels, which it was not told: it would
    /// make room for them.
    std::string header_of(const Unit& u) {
        char* text = nullptr;
        int count = 0, ignored = 0;
        fits_hdr2str(headers_, 0, nullptr, 0, &text, &count, &status_);
        std::string out = text ? text : "";
        fits_free_memory(text, &ignored);
        check();
        constexpr std::size_t kCard = 80;
        std::size_t axes = 0;
        while (axes + kCard < out.size() && out.compare(axes, 9, "NAXIS   =") != 0)
            axes += kCard;
        std::string sizes = fmt::format("{:<8}= {:>20} / number of data axes", "NAXIS", u.planes > 1 ? 3 : 2);
        sizes.resize(kCard, ' ');
        const int size[] = {u.width, u.height, u.planes};
        for (int k = 0; k < (u.planes > 1 ? 3 : 2); ++k) {
            sizes +=
                fmt::format("{:<8}= {:>20} / length of data axis {}", fmt::format("NAXIS{}", k + 1), size[k], k + 1);
            sizes.resize((static_cast<std::size_t>(k) + 2) * kCard, ' ');
        }
        out.replace(axes, kCard, sizes);
        out.resize(static_cast<std::size_t>(whole_blocks(out.size())), ' ');
        return out;
    }

    /// What reads back must be what was written, headers to the byte and pixels by their sum.
    void require_as_written() const {
        try {
            const InputFile file(temporary_);
            for (const Unit& u : units_) {
                std::string header(u.header.size(), '\0');
                file.read(u.head, std::as_writable_bytes(std::span(header)));
                if (header != u.header || fits_sum(file, u.data, u.end).result() != u.sum) spoilt();
            }
        } catch (const InputError&) {
            spoilt();
        }
    }

    void write_card(const Card& card) {
        const char* comment = card.comment.empty() ? nullptr : card.comment.c_str();
        if (card.key == "HISTORY") {
            fits_write_history(headers_, card.value.c_str(), &status_);
        } else if (card.key == "COMMENT") {
            fits_write_comment(headers_, card.value.c_str(), &status_);
        } else if (card.is_text) {
            constexpr std::size_t kRoom = 68; // longer ones go on in further cards, which readers are warned of
            if (card.value.size() > kRoom) fits_write_key_longwarn(headers_, &status_);
            fits_update_key_longstr(headers_, card.key.c_str(), card.value.c_str(), comment, &status_);
        } else {
            // Numbers keep the text they were given.
            const std::string line =
                fmt::format("{:<8}= {:>20} / {}", card.key, card.value, card.comment).substr(0, 80);
            fits_update_card(headers_, card.key.c_str(), line.c_str(), &status_);
        }
    }

    [[noreturn]] void spoilt() const {
        throw OutputError("reads back other than it was written: the disk or its connection fails", final_,
                          "Check the disk, or name a folder on another one with --output; run again");
    }

    void check() {
        if (!status_) return;
        char text[FLEN_STATUS] = {};
        fits_get_errstatus(status_, text);
        fits_clear_errmsg();
        cannot_write(text);
    }

    [[noreturn]] void cannot_write(const std::string& why) const {
        std::error_code failed;
        const auto folder = final_.has_parent_path() ? final_.parent_path() : std::filesystem::path(".");
        const auto space = std::filesystem::space(folder, failed);
        const bool full = !failed && space.available < (4u << 20);
        throw OutputError(full ? "cannot be written: the disk is full" : fmt::format("cannot be written ({})", why),
                          final_,
                          full ? "Free some space and run again; finished work is kept"
                               : "Check that the folder is writable, or name another one with --output");
    }

    std::filesystem::path temporary_, final_;
    std::vector<Unit> units_;     ///< by their place in the file
    fitsfile* headers_ = nullptr; ///< in memory, without pixels
    int status_ = 0;
};

} // namespace

bool tells_layout(std::string_view key) {
    for (const char* own : {"SIMPLE", "XTENSION", "BITPIX", "EXTEND", "PCOUNT", "GCOUNT", "BSCALE", "BZERO", "BLANK",
                            "CHECKSUM", "DATASUM", "END"})
        if (key == own) return true;
    return key.starts_with("NAXIS") && key.find_first_not_of("0123456789", 5) == std::string_view::npos;
}

void write_fits(const std::filesystem::path& file, const std::vector<FitsImage>& images, Over over) {
    const auto write = [&](const std::filesystem::path& temporary) {
        FitsOutput out(temporary, file);
        for (const FitsImage& i : images) {
            Header header;
            const bool marked = &i != &images.front() || i.header.find("CREATOR") || over != Over::own_work;
            if (!marked) header.set("CREATOR", kCreator, "program that made this file");
            for (const Card& card : i.header.cards())
                header.add(card);
            if (i.counts.data)
                out.image(i.counts, header, i.name, 1, i.unit);
            else
                out.image(i.pixels, header, i.name, i.planes);
        }
        out.close();
    };
    write_file_safely(file, write, over);
}

void write_fits_u16(const std::filesystem::path& file, View<const std::uint16_t> pixels, const Header& header,
                    Over over) {
    const auto write = [&](const std::filesystem::path& temporary) {
        FitsOutput out(temporary, file);
        out.image(pixels, header, {}, 1);
        out.close();
    };
    write_file_safely(file, write, over);
}

} // namespace kasane
