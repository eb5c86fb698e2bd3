#include <kasane/io/fits.hpp>

#include <kasane/base/early_writing.hpp>
#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits_checksum.hpp>
#include <kasane/io/fits_file.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <cerrno>
#include <fitsio.h>
#include <fmt/format.h>

namespace kasane {

namespace {

/// A cfitsio file under construction; closed without checks if an exception passes.
class FitsOutput {
public:
    FitsOutput(const std::filesystem::path& temporary, const std::filesystem::path& final_path)
        : temporary_(temporary), final_(final_path) {
        fits_file::start_cfitsio();
        std::error_code ignored;
        std::filesystem::remove(temporary, ignored);
        fits_create_diskfile(&file_, temporary.c_str(), &status_);
        check();
    }
    ~FitsOutput() {
        int ignored = 0;
        if (file_) fits_close_file(file_, &ignored);
        fits_clear_errmsg();
    }
    FitsOutput(const FitsOutput&) = delete;
    FitsOutput& operator=(const FitsOutput&) = delete;

    template <class T>
    void image(View<const T> pixels, const Header& header, const std::string& name, int planes, double unit = 1) {
        constexpr bool kFloat = std::is_same_v<T, float>;
        constexpr int bits = kFloat ? FLOAT_IMG : USHORT_IMG, type = kFloat ? TFLOAT : TUSHORT;
        long size[3] = {pixels.width, pixels.height, planes};
        fits_create_img(file_, bits, planes > 1 ? 3 : 2, size, &status_);
        check();
        if (!name.empty())
            fits_update_key(file_, TSTRING, "EXTNAME", const_cast<char*>(name.c_str()), nullptr, &status_);
        for (const Card& card : header.cards())
            write_card(card);
        if (unit != 1) { // integers are stored, each worth so much
            constexpr double kOffset = 32768;
            double zero = kOffset * unit;
            fits_update_key(file_, TDOUBLE, "BSCALE", &unit, "value of a count", &status_);
            fits_update_key(file_, TDOUBLE, "BZERO", &zero, "value of a stored zero", &status_);
            fits_set_bscale(file_, 1, kOffset, &status_);
        }
        headers_.push_back(cards(file_, status_));
        check();
        FitsSum sum;
        EarlyWriting early(temporary_);
        for (int y = 0; y < pixels.height * planes; ++y) {
            long first[3] = {1, y % pixels.height + 1, y / pixels.height + 1};
            fits_write_pix(file_, type, first, pixels.width, const_cast<T*>(pixels.row(y)), &status_);
            if (status_) check();
            std::for_each_n(pixels.row(y), pixels.width, [&](T value) { sum.add(value); });
            early.written(static_cast<std::uint64_t>(pixels.width) * sizeof(T));
        }
        write_checksums(sum.result());
        check();
    }

    void close() {
        fitsfile* f = file_;
        file_ = nullptr;
        fits_close_file(f, &status_);
        check();
        require_as_written();
    }

private:
    /// DATASUM and CHECKSUM (FITS Standard 4.0, appendix J), without the time stamps that cfitsio's own call puts into
    /// their comments: equal results must have equal bytes.
    void write_checksums(std::uint32_t expected) {
        char zeros[] = "0000000000000000", none[] = "0";
        fits_update_key(file_, TSTRING, "CHECKSUM", zeros, "HDU checksum", &status_);
        fits_update_key(file_, TSTRING, "DATASUM", none, "data unit checksum", &status_);
        fits_flush_file(file_, &status_); // writes the END card and the fill, which count
        LONGLONG head = 0, data = 0, end = 0;
        fits_get_hduaddrll(file_, &head, &data, &end, &status_);
        check();
        if (sum_of(data, end).result() != expected) spoilt();
        std::string text = fmt::format("{}", expected);
        fits_update_key(file_, TSTRING, "DATASUM", text.data(), "data unit checksum", &status_);
        fits_flush_file(file_, &status_);
        check();
        FitsSum whole = sum_of(head, data);
        whole.add_word(expected);
        char encoded[FLEN_VALUE] = {};
        fits_encode_chksum(whole.result(), 1, encoded);
        fits_update_key(file_, TSTRING, "CHECKSUM", encoded, "HDU checksum", &status_);
    }
    /// Of what stands in the file now.
    FitsSum sum_of(LONGLONG from, LONGLONG to) const {
        try {
            return fits_sum(InputFile(temporary_), static_cast<std::uint64_t>(from), static_cast<std::uint64_t>(to));
        } catch (const InputError&) {
            spoilt();
        }
    }

    void write_card(const Card& card) {
        const char* comment = card.comment.empty() ? nullptr : card.comment.c_str();
        if (card.key == "HISTORY") {
            fits_write_history(file_, card.value.c_str(), &status_);
        } else if (card.key == "COMMENT") {
            fits_write_comment(file_, card.value.c_str(), &status_);
        } else if (card.is_text) {
            constexpr std::size_t kRoom = 68; // longer ones go on in further cards, which readers are warned of
            if (card.value.size() > kRoom) fits_write_key_longwarn(file_, &status_);
            fits_update_key_longstr(file_, card.key.c_str(), card.value.c_str(), comment, &status_);
        } else {
            // Numbers keep the text they were given.
            const std::string line =
                fmt::format("{:<8}= {:>20} / {}", card.key, card.value, card.comment).substr(0, 80);
            fits_update_card(file_, card.key.c_str(), line.c_str(), &status_);
        }
    }

    /// All cards of the current header but those of the check sums.
    std::string cards(fitsfile* file, int& status) const {
        char checksum[] = "CHECKSUM", datasum[] = "DATASUM", *left_out[] = {checksum, datasum}, *text = nullptr;
        int count = 0, ignored = 0;
        fits_hdr2str(file, 0, left_out, 2, &text, &count, &status);
        const std::string out = text ? text : "";
        fits_free_memory(text, &ignored);
        return out;
    }

    /// cfitsio reads back what it wrote and takes a fault of the disk for an empty block: the headers are read again.
    /// The pixels' sum was compared with that of the pixels in memory.
    void require_as_written() {
        fits_open_diskfile(&file_, temporary_.c_str(), READONLY, &status_);
        for (std::size_t i = 0; i < headers_.size(); ++i) {
            fits_movabs_hdu(file_, static_cast<int>(i) + 1, nullptr, &status_);
            if (cards(file_, status_) != headers_[i] || status_) spoilt();
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
        std::error_code failed;
        const auto folder = final_.has_parent_path() ? final_.parent_path() : std::filesystem::path(".");
        const auto space = std::filesystem::space(folder, failed);
        const bool full = !failed && space.available < (4u << 20);
        throw OutputError(full ? "cannot be written: the disk is full" : fmt::format("cannot be written ({})", text),
                          final_,
                          full ? "Free some space and run again; finished work is kept"
                               : "Check that the folder is writable, or name another one with --output");
    }

    std::filesystem::path temporary_, final_;
    std::vector<std::string> headers_; ///< by HDU
    fitsfile* file_ = nullptr;
    int status_ = 0;
};

} // namespace

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
