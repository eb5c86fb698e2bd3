// Every format through the one reader, in files written here with the formats' own libraries.
#include "support/formats.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/pixel_cache.hpp>
#include <kasane/sky/dng.hpp>

#include <catch2/catch.hpp>
#include <fstream>
#include <thread>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// 40 x 30 counts, each pixel another.
Raster<std::uint16_t> pattern(int planes = 1) {
    Raster<std::uint16_t> p(40, 30, planes);
    for (std::size_t i = 0; i < p.pixels().size(); ++i)
        p.pixels()[i] = static_cast<std::uint16_t>(100 + 17 * i);
    return p;
}

void check_same(const FrameReader& reader, const Raster<std::uint16_t>& truth, double factor = 1) {
    REQUIRE(reader.width() == truth.width());
    REQUIRE(reader.height() == truth.height());
    REQUIRE(reader.planes() == truth.planes());
    for (int p = 0; p < truth.planes(); ++p) {
        const Region r{7, 5, 20, 19};
        Image part(r.width, r.height);
        reader.read(r, part.plane(), p);
        bool same = true;
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x)
                same = same && part(x, y) == static_cast<float>(factor * truth(r.x + x, r.y + y, p));
        CHECK(same);
    }
}

} // namespace

TEST_CASE("TIFF of any layout reads the same: strips, tiles, compressed, BigTIFF, colour in either order") {
    const TemporaryFolder folder;
    TiffOptions o;
    SECTION("strips") {
        o.rows_per_strip = 7;
    }
    SECTION("one strip") {
        o.rows_per_strip = 30;
    }
    SECTION("tiles") {
        o.tile = 16;
    }
    SECTION("compressed strips") {
        o.rows_per_strip = 4;
        o.deflate = true;
    }
    SECTION("one compressed strip") {
        o.rows_per_strip = 30;
        o.deflate = true;
    }
    SECTION("BigTIFF") {
        o.big = true;
    }
    SECTION("RGB") {
        o.planes = 3;
    }
    SECTION("RGB, planes apart, in tiles") {
        o.planes = 3;
        o.separate = true;
        o.tile = 16;
    }
    SECTION("32-bit floats") {
        o.bits = -32;
    }
    SECTION("32-bit integers") {
        o.bits = 32;
    }
    write_tiff(folder / "a.tif", pattern(o.planes), o);
    check_same(*open_frame(folder / "a.tif"), pattern(o.planes));
    const FrameSummary s = read_summary(folder / "a.tif");
    CHECK(s.bits == o.bits);
    CHECK(s.linear);
    CHECK(s.header.text("Exif.Model").value() == "Mirror box 24");
    CHECK(s.header.number("Exif.ExposureTime").value() == Approx(30));
    CHECK(s.header.number("Exif.ISOSpeedRatings").value() == 1600);
}

TEST_CASE("PNG of 16 and JPEG of 8 bits are read as stored, a JPEG says it is not linear") {
    const TemporaryFolder folder;
    write_png16(folder / "a.png", pattern());
    check_same(*open_frame(folder / "a.png"), pattern());
    CHECK(read_summary(folder / "a.png").bits == 16);
    Raster<std::uint16_t> flat(40, 30, 3, 120);
    write_jpeg(folder / "a.jpg", flat);
    check_same(*open_frame(folder / "a.jpg"), flat);
    const FrameSummary s = read_summary(folder / "a.jpg");
    CHECK_FALSE(s.linear);
    CHECK(s.header.text("Exif.Model").value() == "Mirror box 24");
}

TEST_CASE("A camera raw file gives the mosaic with its pattern, levels and what EXIF says, turned by nothing") {
    const TemporaryFolder folder;
    Raster<std::uint16_t> mosaic(320, 240);
    for (std::size_t i = 0; i < mosaic.pixels().size(); ++i)
        mosaic.pixels()[i] = static_cast<std::uint16_t>(512 + i % 9000);
    sky::DngTags tags;
    tags.seconds = 120;
    tags.iso = 1600;
    tags.local_time = "2031:03:12 23:15:09";
    tags.temperature = 14.5;
    tags.focal_length_mm = 200;
    tags.orientation = 6;
    const std::string cfa = GENERATE(as<std::string>{}, "RGGB", "GRBG", "BGGR");
    tags.cfa = cfa;
    sky::write_dng(folder / "a.dng", mosaic.plane(), tags);
    const FrameSummary s = read_summary(folder / "a.dng");
    CHECK(s.format == Format::camera_raw);
    CHECK(s.header.text("Raw.CfaPattern").value() == cfa);
    CHECK(s.header.number("Raw.BlackLevel").value() == 512);
    CHECK(s.header.number("Raw.WhiteLevel").value() == 16383);
    CHECK(s.header.number("Exif.ExposureTime").value() == Approx(120));
    CHECK(s.header.number("Exif.ISOSpeedRatings").value() == 1600);
    CHECK(s.header.number("Exif.FocalLength").value() == Approx(200));
    CHECK(s.header.text("Exif.DateTimeOriginal").value() == "2031:03:12 23:15:09");
    CHECK(s.header.number("Exif.AmbientTemperature").value() == Approx(14.5));
    CHECK(s.header.number("Exif.Orientation").value() == 6);
    check_same(*open_frame(folder / "a.dng"), mosaic);
}

TEST_CASE("FITS under gzip, tile-compressed, and with its rows from the bottom up") {
    const TemporaryFolder folder;
    write_fits_u16(folder / "a.fits", pattern().plane(), {});
    REQUIRE(shell("cd " + folder.path().string() + " && gzip -k a.fits").status == 0);
    check_same(*open_frame(folder / "a.fits.gz"), pattern());
    write_tile_compressed(folder / "a.fits", folder / "a.fz");
    check_same(*open_frame(folder / "a.fz"), pattern());
    PixelCache cache(folder / "cache", 1 << 20);
    check_same(*open_frame(folder / "a.fits.gz", &cache), pattern());
    CHECK(cache.size() > 0);

    Header h;
    h.set("ROWORDER", "BOTTOM-UP");
    Raster<std::uint16_t> upside(40, 30);
    for (int y = 0; y < 30; ++y)
        for (int x = 0; x < 40; ++x)
            upside(x, y) = pattern()(x, 29 - y);
    write_fits_u16(folder / "b.fits", upside.plane(), h);
    check_same(*open_frame(folder / "b.fits"), pattern());
    write_tile_compressed(folder / "b.fits", folder / "b.fz");
    check_same(*open_frame(folder / "b.fz"), pattern());
}

TEST_CASE("A check sum that does not match is told, the pixels can still be read") {
    const TemporaryFolder folder;
    write_fits_u16(folder / "a.fits", pattern().plane(), {});
    CHECK(open_frame(folder / "a.fits")->check_sums().empty());
    std::fstream file(folder / "a.fits", std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(2880 + 100);
    file.put('\x55');
    file.close();
    const auto reader = open_frame(folder / "a.fits");
    CHECK_THAT(reader->check_sums(), Catch::Contains("DATASUM"));
    CHECK(read_plane(*reader)(0, 0) == 100);
    // A file whose last block was not filled up is as sound as the others, and a sum that is no number is none.
    write_fits_u16(folder / "b.fits", pattern().plane(), {});
    std::filesystem::resize_file(folder / "b.fits", 2880 + 40 * 30 * 2);
    CHECK(open_frame(folder / "b.fits")->check_sums().empty());
    std::string bytes = read_file(folder / "b.fits");
    const auto at = bytes.find("DATASUM = '");
    REQUIRE(at != std::string::npos);
    bytes.replace(at + 11, 5, "1e300");
    std::ofstream(folder / "b.fits", std::ios::binary) << bytes;
    CHECK_THAT(open_frame(folder / "b.fits")->check_sums(), Catch::Contains("DATASUM"));
}

TEST_CASE("A turned frame is the exact turn of every rectangle") {
    const TemporaryFolder folder;
    write_fits_u16(folder / "a.fits", pattern().plane(), {});
    const auto p = pattern();
    const auto right = turned_frame(open_frame(folder / "a.fits"), 90),
               about = turned_frame(open_frame(folder / "a.fits"), 180),
               left = turned_frame(open_frame(folder / "a.fits"), 270);
    CHECK(right->width() == 30);
    Image a(11, 9), b(11, 9), c(11, 9);
    const Region r{6, 13, 11, 9};
    right->read(r, a.plane());
    about->read(r, b.plane());
    left->read(r, c.plane());
    for (int y = 0; y < 9; ++y)
        for (int x = 0; x < 11; ++x) {
            CHECK(a(x, y) == p(r.y + y, 29 - (r.x + x))); // clockwise: the left column becomes the top row
            CHECK(b(x, y) == p(39 - (r.x + x), 29 - (r.y + y)));
            CHECK(c(x, y) == p(39 - (r.y + y), r.x + x));
        }
    CHECK_THROWS_AS(turned_frame(open_frame(folder / "a.fits"), 45), UsageError);
}

TEST_CASE("The cache decodes once, for many threads, and lets the least recently used go") {
    const TemporaryFolder folder;
    PixelCache cache(folder / "cache", 24000); // room for two files with their headers
    int decodes = 0;
    const auto decode = [&] {
        ++decodes; // guarded by the cache: one at a time for a key
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
        return Decoded{Raster<std::uint16_t>(40, 30, 1, 7), {}};
    };
    std::vector<std::thread> threads;
    for (int i = 0; i < 6; ++i)
        threads.emplace_back([&] {
            Decoded kept;
            if (!cache.get("one", decode, kept)) std::abort();
        });
    for (auto& t : threads)
        t.join();
    CHECK(decodes == 1);
    Decoded kept;
    const auto in_use = cache.get("one", decode, kept);
    for (const char* key : {"two", "three", "four"}) {
        std::this_thread::sleep_for(std::chrono::milliseconds(15));
        REQUIRE(cache.get(key, decode, kept));
    }
    CHECK(cache.size() <= 24000);
    CHECK(read_plane(*in_use)(3, 3) == 7); // gone from the folder, still open
    CHECK(decodes == 4);
    cache.get("one", decode, kept);
    CHECK(decodes == 5);
    PixelCache tiny(folder / "tiny", 100); // too small: the pixels stay with the caller
    CHECK_FALSE(tiny.get("one", decode, kept));
    CHECK(kept.counts(0, 0) == 7);
}

TEST_CASE("Damaged files of every format are refused with the reason, never more") {
    const TemporaryFolder folder;
    write_tiff(folder / "a.tif", pattern(), {});
    write_png16(folder / "a.png", pattern());
    write_jpeg(folder / "a.jpg", Raster<std::uint16_t>(400, 300, 1, 77));
    sky::write_dng(folder / "a.dng", Raster<std::uint16_t>(320, 240, 1, 600).plane(), {});
    for (const char* name : {"a.tif", "a.png", "a.jpg", "a.dng"}) {
        const std::string whole = read_file(folder / name);
        for (const double share : {0.0, 0.002, 0.3, 0.9}) {
            const fs::path cut = folder / (std::string("cut-") + name);
            std::ofstream(cut, std::ios::binary)
                << whole.substr(0, static_cast<std::size_t>(share * static_cast<double>(whole.size())));
            INFO(cut << " at " << share);
            CHECK_THROWS_AS(read_plane(*open_frame(cut)), InputError);
        }
    }
    std::ofstream(folder / "text.tif") << "no image at all";
    CHECK_THROWS_WITH(open_frame(folder / "text.tif"), Catch::Contains("no image of a known format"));
    std::ofstream(folder / "text.nef") << "no image at all";
    CHECK_THROWS_WITH(open_frame(folder / "text.nef"), Catch::Contains("camera raw"));
    fs::create_directory(folder / "folder.png");
    CHECK_THROWS_WITH(open_frame(folder / "folder.png"), Catch::Contains("folder"));
}
