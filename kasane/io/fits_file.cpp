#include <kasane/io/fits_file.hpp>

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

namespace kasane::fits_file {

namespace {

[[noreturn]] void refuse(const std::filesystem::path& file, const std::string& what, const std::string& remedy) {
    throw InputError(what, file, remedy);
}

constexpr std::uint64_t kMostUnpacked = 8ull << 30; ///< bytes of a file under gzip; no camera makes them so large

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

} // namespace

bool is_gzip(const std::filesystem::path& file) {
    unsigned char head[2] = {};
    const int fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK); // every header that is read passes here
    if (fd < 0) return false;
    const ssize_t got = ::read(fd, head, sizeof head);
    ::close(fd);
    return got == 2 && head[0] == 0x1f && head[1] == 0x8b;
}

void start_cfitsio() {
    [[maybe_unused]] static const int once = fits_init_cfitsio();
}

std::string fits_reason(int status) {
    char text[FLEN_STATUS] = {};
    fits_get_errstatus(status, text);
    return text;
}

OpenFits::OpenFits(const std::filesystem::path& file) {
    start_cfitsio();
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

} // namespace kasane::fits_file
