#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/fits_checksum.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/io/png.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <fitsio.h>
#include <fmt/format.h>
#include <fstream>
#include <limits>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// A FITS file written by hand, byte by byte, so that reading is tested against the standard and not against the
/// writer.
void write_raw_fits(const fs::path& file, const std::vector<std::string>& cards, const std::string& data) {
    std::string bytes;
    for (const std::string& c : cards)
        bytes += fmt::format("{:<80}", c);
    bytes += fmt::format("{:<80}", "END");
    bytes.resize((bytes.size() + 2879) / 2880 * 2880, ' ');
    std::string padded = data;
    padded.resize((padded.size() + 2879) / 2880 * 2880, '\0');
    std::ofstream(file, std::ios::binary) << bytes << padded;
}

template <class T>
std::string big_endian(std::initializer_list<T> values) {
    std::string out;
    for (const T v : values) {
        char b[sizeof(T)];
        std::memcpy(b, &v, sizeof(T));
        for (std::size_t i = sizeof(T); i-- > 0;)
            out += b[i];
    }
    return out;
}

std::vector<float> pixels_of(const fs::path& file) {
    const Image image = read_plane(*open_fits(file));
    return {image.pixels().begin(), image.pixels().end()};
}

std::vector<std::string> cards(int bitpix, std::vector<std::string> more = {}) {
    std::vector<std::string> out = {"SIMPLE  =                    T", fmt::format("BITPIX  = {:>20}", bitpix),
                                    "NAXIS   =                    2", "NAXIS1  =                    2",
                                    "NAXIS2  =                    2"};
    out.insert(out.end(), more.begin(), more.end());
    return out;
}

Image ramp(int width, int height) {
    Image image(width, height);
    for (std::size_t i = 0; i < image.pixels().size(); ++i)
        image.pixels()[i] = static_cast<float>(i) * 0.5f - 3;
    return image;
}

} // namespace

TEST_CASE("Every kind of FITS pixel is read as its physical value") {
    const TemporaryFolder folder;
    const fs::path f = folder / "a.fits";
    const std::vector<float> expected = {0, 1, 200, 7};
    write_raw_fits(f, cards(8), std::string("\x00\x01\xc8\x07", 4));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(16), big_endian<std::int16_t>({0, 1, 200, 7}));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(16, {"BZERO   =                32768", "BSCALE  =                    1"}),
                   big_endian<std::int16_t>({-32768, -32767, -32568, 32767}));
    CHECK(pixels_of(f) == std::vector<float>{0, 1, 200, 65535});
    write_raw_fits(f, cards(16, {"BZERO   =                  100", "BSCALE  =                  0.5"}),
                   big_endian<std::int16_t>({0, 2, -4, 7}));
    CHECK(pixels_of(f) == std::vector<float>{100, 101, 98, 103.5});
    write_raw_fits(f, cards(32), big_endian<std::int32_t>({0, 1, 200, 7}));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(64), big_endian<std::int64_t>({0, 1, 200, 7}));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(-32), big_endian<float>({0, 1, 200, 7}));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(-64), big_endian<double>({0, 1, 200, 7}));
    CHECK(pixels_of(f) == expected);
    write_raw_fits(f, cards(16, {"BLANK   =                   -1"}), big_endian<std::int16_t>({0, 1, -1, 7}));
    const auto v = pixels_of(f);
    CHECK(std::isnan(v[2]));
    CHECK(v[3] == 7);
}

TEST_CASE("Text, numbers and doubled quotes of a header come back as they were meant") {
    const TemporaryFolder folder;
    write_raw_fits(folder / "a.fits",
                   cards(8, {"OBJECT  = 'Orla''s Lantern  '   / the target", "EXPTIME =                180.5 / seconds",
                             "CCD-TEMP= -1.0E1", "FLAG    =                    T"}),
                   "abcd");
    const Header h = read_fits_summary(folder / "a.fits").header;
    CHECK(h.text("OBJECT").value() == "Orla's Lantern");
    CHECK(h.number("EXPTIME").value() == 180.5);
    CHECK(h.number("CCD-TEMP").value() == -10);
    CHECK_FALSE(h.number("OBJECT"));
    CHECK_FALSE(h.text("MISSING"));
    CHECK(h.number({"EXPOSURE", "EXPTIME"}).value() == 180.5);
}

TEST_CASE("A long line of history is broken between words, and nothing is lost") {
    Header h;
    const std::string text =
        "combine: 14 frames: mean, rejecting beyond 4 sigma below and 3 above (stars in a flat only "
        "add) and inverse-variance weights";
    h.add_history(text);
    h.add_history(std::string(150, 'x'));
    std::vector<std::string> lines;
    for (const Card& card : h.cards())
        lines.push_back(card.value);
    REQUIRE(lines.size() == 5);
    CHECK(lines[0] + " " + lines[1] == text);
    CHECK(lines[2] + lines[3] + lines[4] == std::string(150, 'x'));
    for (const std::string& line : lines)
        CHECK(line.size() <= 70);
}

TEST_CASE("What is written is read back, by name where there are several images") {
    const TemporaryFolder folder;
    const Image a = ramp(37, 21), b = ramp(5, 4);
    Header h;
    h.set("OBJECT", "Paper Lantern Nebula", "target");
    h.set("NCOMBINE", 12LL);
    h.set("LONGTEXT", std::string(150, 'x'));
    h.add_history("made for a test");
    write_fits(folder / "m.fits", {{a.plane(), h}, {b.plane(), {}, "COVERAGE"}});
    const auto reader = open_fits(folder / "m.fits");
    CHECK(read_plane(*reader).pixels() == a.pixels());
    CHECK(reader->header().text("OBJECT").value() == "Paper Lantern Nebula");
    CHECK(reader->header().number("NCOMBINE").value() == 12);
    CHECK(read_plane(*open_fits(folder / "m.fits", "COVERAGE")).pixels() == b.pixels());
    CHECK_THROWS_WITH(open_fits(folder / "m.fits", "WEIGHT"), Catch::Contains("no image named WEIGHT"));
}

TEST_CASE("Equal images have equal bytes, with checksums that add up") {
    const TemporaryFolder folder;
    const Image a = ramp(64, 32);
    write_fits(folder / "a.fits", {{a.plane(), {}}});
    write_fits(folder / "b.fits", {{a.plane(), {}}});
    const std::string bytes = read_file(folder / "a.fits");
    CHECK(bytes == read_file(folder / "b.fits"));
    // FITS Standard 4.0, 4.4.2.7: the 32-bit ones' complement sum of the whole unit is all ones.
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < bytes.size(); i += 4) {
        std::uint32_t word = 0;
        for (std::size_t k = 0; k < 4; ++k)
            word = word << 8 | static_cast<unsigned char>(bytes[i + k]);
        sum += word;
        sum = (sum & 0xffffffffu) + (sum >> 32);
    }
    CHECK(sum == 0xffffffffu);
}

TEST_CASE("A region is the same as that part of the whole") {
    const TemporaryFolder folder;
    Raster<std::uint16_t> image(50, 40);
    for (std::size_t i = 0; i < image.pixels().size(); ++i)
        image.pixels()[i] = static_cast<std::uint16_t>(i * 31);
    write_fits_u16(folder / "a.fits", image.plane(), {});
    const auto reader = open_fits(folder / "a.fits");
    const Image whole = read_plane(*reader);
    CHECK(whole(49, 39) == image(49, 39));
    Image part(13, 7);
    reader->read({30, 25, 13, 7}, part.plane());
    reader->release();
    CHECK(part(12, 6) == whole(42, 31));
    CHECK(part(0, 0) == whole(30, 25));
    CHECK_THROWS_AS(reader->read({45, 0, 10, 1}, part.plane()), UsageError);
}

TEST_CASE("Damaged files are refused with the reason") {
    const TemporaryFolder folder;
    const auto refused = [&](const char* name, const char* reason) {
        CHECK_THROWS_WITH(open_fits(folder / name), Catch::Contains(reason) && Catch::Contains(name));
    };
    const Image a = ramp(100, 100);
    write_fits(folder / "cut.fits", {{a.plane(), {}}});
    fs::resize_file(folder / "cut.fits", 20000);
    refused("cut.fits", "truncated");
    std::ofstream(folder / "text.fits") << "This is no image at all.\n";
    refused("text.fits", "not a FITS file");
    std::ofstream(folder / "empty.fits").flush();
    refused("empty.fits", "empty");
    fs::create_directory(folder / "folder.fits");
    refused("folder.fits", "folder");
    refused("missing.fits", "missing.fits");
    write_raw_fits(
        folder / "none.fits",
        {"SIMPLE  =                    T", "BITPIX  =                    8", "NAXIS   =                    0"}, "");
    refused("none.fits", "no image");
    write_raw_fits(folder / "huge.fits",
                   {"SIMPLE  =                    T", "BITPIX  =                   16",
                    "NAXIS   =                    2", "NAXIS1  =            900000000",
                    "NAXIS2  =            900000000"},
                   "");
    refused("huge.fits", "900000000");
}

TEST_CASE("A file that shrinks while it is read ends in an error, not in a crash") {
    const TemporaryFolder folder;
    const Image a = ramp(300, 300);
    write_fits(folder / "a.fits", {{a.plane(), {}}});
    const auto reader = open_fits(folder / "a.fits");
    fs::resize_file(folder / "a.fits", 3000);
    Image whole(300, 300);
    CHECK_THROWS_WITH(reader->read(reader->bounds(), whole.plane()), Catch::Contains("shorter"));
}

TEST_CASE("Writing into a folder that is not there names the file") {
    CHECK_THROWS_WITH(write_fits("/no/such/folder/a.fits", {{ramp(4, 4).plane(), {}}}),
                      Catch::Contains("/no/such/folder/a.fits"));
}

TEST_CASE("A preview is a PNG of the right size") {
    const TemporaryFolder folder;
    write_png(folder / "a.png", Raster<std::uint8_t>(31, 17, 3, 99));
    const std::string bytes = read_file(folder / "a.png");
    CHECK(bytes.substr(1, 3) == "PNG");
    CHECK(static_cast<int>(static_cast<unsigned char>(bytes[19])) == 31);
    CHECK(static_cast<int>(static_cast<unsigned char>(bytes[23])) == 17);
}

TEST_CASE("Counts with a unit come back as what they are worth") {
    const TemporaryFolder folder;
    Image a(7, 5, 1, 2.5f);
    Raster<std::uint16_t> counts(7, 5);
    counts(2, 1) = 65535;
    counts(3, 1) = 13107;
    FitsImage share;
    share.name = "SHARE";
    share.counts = counts.plane();
    share.unit = 1 / 65535.0;
    write_fits(folder / "c.fits", {{a.plane(), {}}, share});
    const Image back = read_plane(*open_fits(folder / "c.fits", "SHARE"));
    CHECK(back(2, 1) == Approx(1));
    CHECK(back(3, 1) == Approx(0.2));
    CHECK(std::abs(back(0, 0)) < 1e-6f);
    CHECK(read_plane(*open_fits(folder / "c.fits"))(0, 0) == 2.5f);
}

TEST_CASE("Images of any size are sound to cfitsio, which knows nothing of how they were written") {
    const TemporaryFolder folder;
    // Rows that are no whole words, pieces that are no whole blocks and several of them, a header that goes on in the
    // next block.
    const Image first = ramp(301, 405);
    Image planes(37, 23, 3);
    for (std::size_t i = 0; i < planes.pixels().size(); ++i)
        planes.pixels()[i] = i % 11 == 5 ? std::numeric_limits<float>::quiet_NaN() : static_cast<float>(i) * -0.25f;
    Raster<std::uint16_t> counts(333, 901);
    for (std::size_t i = 0; i < counts.pixels().size(); ++i)
        counts.pixels()[i] = static_cast<std::uint16_t>(i * 283);
    FitsImage whole_numbers;
    whole_numbers.name = "COUNTS";
    whole_numbers.counts = counts.plane();
    Header long_one;
    for (int k = 0; k < 80; ++k)
        long_one.set(fmt::format("KEY{}", k), static_cast<long long>(k), "a number");
    for (const char* key : {"NAXIS", "NAXIS1", "BITPIX"}) // as a header that is handed on may say of other pixels
        long_one.set(key, 16LL, "of another image");
    const fs::path file = folder / "a.fits";
    const auto write = [&] {
        write_fits(file, {{first.plane(), long_one}, {planes.plane(), {}, "PLANES", 3}, whole_numbers});
    };
    write();
    const std::string bytes = read_file(file);
    CHECK(bytes.size() % 2880 == 0);
    on_every_instruction_set([&] {
        write();
        CHECK(read_file(file) == bytes);
    });
    int status = 0;
    fitsfile* f = nullptr;
    fits_open_diskfile(&f, file.c_str(), READONLY, &status);
    REQUIRE(status == 0);
    const auto read = [&](int hdu, std::size_t count) {
        int data = 0, all = 0, any = 0;
        std::vector<float> pixels(count);
        fits_movabs_hdu(f, hdu, nullptr, &status);
        fits_verify_chksum(f, &data, &all, &status);
        fits_read_img(f, TFLOAT, 1, static_cast<LONGLONG>(count), nullptr, pixels.data(), &any, &status);
        CHECK(status == 0);
        CHECK((data == 1 && all == 1));
        return pixels;
    };
    const auto a = read(1, first.pixels().size()), b = read(2, planes.pixels().size()),
               c = read(3, counts.pixels().size());
    CHECK(std::equal(a.begin(), a.end(), first.pixels().begin()));
    CHECK(std::memcmp(b.data(), planes.pixels().data(), sizeof(float) * b.size()) == 0); // what is no number as well
    CHECK(std::equal(c.begin(), c.end(), counts.pixels().begin()));
    fits_close_file(f, &status);
}

TEST_CASE("A check sum is that of the standard, word by word, of any number of bytes") {
    sky::Random random(5);
    for (const std::size_t count : {0u, 4u, 124u, 128u, 132u, 32768u, 32900u, 400004u}) {
        for (const bool full : {false, true}) { // of the highest words: carries everywhere
            std::vector<std::byte> bytes(count);
            std::uint64_t expected = 0;
            for (std::size_t i = 0; i < count; ++i) {
                bytes[i] = full ? std::byte{255} : static_cast<std::byte>(random.uniform() * 256);
                expected += static_cast<std::uint64_t>(bytes[i]) << (24 - 8 * (i % 4));
            }
            while (expected >> 32)
                expected = (expected & 0xffffffffu) + (expected >> 32);
            on_every_instruction_set([&] {
                FitsSum sum;
                sum.add(std::span(std::as_const(bytes)));
                CHECK(sum.result() == expected);
            });
        }
    }
}

TEST_CASE("Check sums are told while somebody else reads the file, as they are when it is read for them") {
    const TemporaryFolder folder;
    const Image a = ramp(301, 205);
    const fs::path file = folder / "a.fits";
    write_fits(file, {{a.plane(), {}}, {a.plane(), {}, "SECOND"}});
    const std::string sound = read_file(file);
    const auto told = [&] {
        const auto reader = open_fits(file);
        const auto check = reader->sum_check();
        REQUIRE(check);
        const std::string digest = content_digest(file, [&](std::span<const std::byte> bytes) { check->add(bytes); });
        CHECK(digest == content_digest(file));
        CHECK(check->wrong() == reader->check_sums());
        return check->wrong();
    };
    CHECK(told().empty());
    const auto spoil = [&](std::size_t at) {
        std::string bytes = sound;
        bytes[at] = static_cast<char>(bytes[at] + 1);
        std::ofstream(file, std::ios::binary) << bytes;
    };
    spoil(2880 + 100 * 1000);
    CHECK_THAT(told(), Catch::Contains("DATASUM"));
    spoil(sound.find("/") + 3);
    CHECK_THAT(told(), Catch::Contains("CHECKSUM"));
    spoil(sound.size() - 3000); // of the other image
    CHECK(told().empty());
}
