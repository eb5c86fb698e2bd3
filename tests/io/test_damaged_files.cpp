// Files that shrink, end too soon or are damaged inside: an error that names the file, never a signal, a loop or
// silence.
#include "support/formats.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/memory.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/gzip.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <csignal>
#include <fitsio.h>
#include <fstream>
#include <span>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <utility>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

Raster<std::uint16_t> noisy(int width, int height) {
    sky::Random random(5);
    Raster<std::uint16_t> image(width, height);
    for (auto& v : image.pixels())
        v = static_cast<std::uint16_t>(1000 + 30 * random.normal());
    return image;
}

void gzip(const fs::path& from, const fs::path& to) {
    REQUIRE(shell("gzip -c " + from.string() + " > " + to.string()).status == 0);
}

/// Tile-compressed with gzip, as floats that no other method takes are.
void write_gzip_tiles(const fs::path& file) {
    fitsfile* f = nullptr;
    int status = 0;
    fs::remove(file);
    fits_create_diskfile(&f, file.c_str(), &status);
    fits_set_compression_type(f, GZIP_1, &status);
    fits_set_quantize_level(f, 9999, &status); // none: lossless
    long size[2] = {200, 60};
    fits_create_img(f, FLOAT_IMG, 2, size, &status);
    sky::Random random(3);
    std::vector<float> pixels(200 * 60);
    for (float& v : pixels)
        v = static_cast<float>(random.normal());
    fits_write_img(f, TFLOAT, 1, static_cast<LONGLONG>(pixels.size()), pixels.data(), &status);
    fits_close_file(f, &status);
    REQUIRE(status == 0);
}

} // namespace

TEST_CASE("Rectangles of every shape are the same, by reading and by mapped memory") {
    const TemporaryFolder folder;
    const Raster<std::uint16_t> image = noisy(9000, 40); // rows long enough to be read one by one
    for (const char* order : {"TOP-DOWN", "BOTTOM-UP"}) {
        Header h;
        h.set("ROWORDER", order);
        write_fits_u16(folder / "a.fits", image.plane(), h, Over::anything);
        const auto reader = open_fits(folder / "a.fits");
        const bool up = std::string(order) == "BOTTOM-UP";
        for (const Region& r : {Region{0, 0, 9000, 40}, Region{0, 7, 9000, 20}, Region{13, 3, 8500, 30},
                                Region{100, 5, 128, 30}, Region{8999, 39, 1, 1}, Region{0, 0, 1, 40}}) {
            Image out(r.width, r.height);
            reader->read(r, out.plane());
            int wrong = 0;
            for (int y = 0; y < r.height; ++y)
                for (int x = 0; x < r.width; ++x)
                    wrong += out(x, y) != image(r.x + x, up ? 39 - (r.y + y) : r.y + y);
            CHECK(wrong == 0);
        }
    }
}

TEST_CASE("A file that shrinks while it is read is an error, whatever way it is read") {
    const TemporaryFolder folder;
    const fs::path file = folder / "a.fits";
    write_fits_u16(file, noisy(3000, 400).plane(), {}, Over::anything);
    const auto reader = open_fits(file);
    Image all(3000, 400), part(64, 64);
    reader->read({100, 300, 64, 64}, part.plane()); // pages are mapped now
    fs::resize_file(file, 100000);
    CHECK_THROWS_AS(reader->read({200, 300, 64, 64}, part.plane()), InputError);
    CHECK_THROWS_AS(reader->read(reader->bounds(), all.plane()), InputError);
    CHECK_THROWS_WITH(reader->read(reader->bounds(), all.plane()), Catch::Contains("a.fits"));
}

TEST_CASE("A page that cannot be had is an error, not a signal, other bus errors go where they went") {
    const TemporaryFolder folder;
    std::ofstream(folder / "a") << std::string(1 << 20, 'a');
    const InputFile file(folder / "a");
    const std::byte* data = file.mapped();
    CHECK(std::to_integer<char>(data[1000000]) == 'a');
    file.check();
    fs::resize_file(folder / "a", 4096);
    file.release();
    CHECK(std::to_integer<char>(data[900000]) == 0); // the signal was caught, the page is empty
    CHECK_THROWS_AS(file.check(), InputError);
    fs::resize_file(folder / "a", 1 << 20); // as large as before: what was read is still not to be had
    CHECK_THROWS_WITH(file.check(), Catch::Contains("read to its end"));
    // A handler that was there before, or comes from the signal being raised, is not swallowed.
    struct sigaction now {};
    REQUIRE(sigaction(SIGBUS, nullptr, &now) == 0);
    CHECK((now.sa_flags & SA_SIGINFO) != 0);
}

TEST_CASE("A file looked through is shown once, whole and in order, and takes no memory of its size") {
    const TemporaryFolder folder;
    const fs::path file = folder / "a";
    for (const std::size_t size : {1u, 63u, 256u << 10, (256u << 10) + 1, 4u << 20, (24u << 20) + 77}) {
        std::string bytes(size, '\0');
        sky::Random random(size);
        for (char& c : bytes)
            c = static_cast<char>(256 * random.uniform() - 128);
        std::ofstream(file) << bytes;
        std::string seen;
        seen.reserve(size);
        const std::uint64_t before = resident_memory();
        std::uint64_t most = 0;
        InputFile(file).look_through([&](std::span<const std::byte> piece) {
            CHECK((piece.size() % 64 == 0 || seen.size() + piece.size() == size));
            seen.append(reinterpret_cast<const char*>(piece.data()), piece.size());
            const std::uint64_t now = resident_memory();
            most = std::max(most, now - std::min(now, before));
        });
        CHECK(seen == bytes);
        CHECK(most < size + (10u << 20)); // what was seen, kept above, and a few pages
        CHECK(content_digest(file) == digest(bytes));
    }
    std::ofstream(file).flush();
    CHECK(content_digest(file) == digest(""));
    CHECK_THROWS_AS(content_digest(folder / "none"), InputError);
}

TEST_CASE("Looking through a file touches nothing of what lies behind it in memory") {
    const TemporaryFolder folder;
    const auto page = static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
    const auto map = [](std::size_t bytes) {
        void* const all = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
        REQUIRE(all != MAP_FAILED);
        return static_cast<std::byte*>(all);
    };
    constexpr std::size_t kGuard = 1 << 20;
    constexpr std::byte kFull{7};
    constexpr std::size_t kAligned = (2 << 20) - kGuard; // what is larger is mapped where large pages begin
    for (const std::size_t size :
         {300000u, 600000u, (1u << 20) - 5000, (4u << 20) - 100000, (12u << 20) - 1, (12u << 20) + 1}) {
        const fs::path file = folder / std::to_string(size);
        std::ofstream(file) << std::string(size, 'a');
        const std::size_t room = (size + page - 1) / page * page;
        std::vector<std::byte*> higher; // gaps that the system would rather take
        bool beside = false;
        for (int attempt = 0; attempt < 300 && !beside; ++attempt) {
            std::byte* const gap = map(room + kGuard);
            std::fill_n(gap + room, kGuard, kFull);
            ::munmap(gap, room);
            bool first = true;
            std::byte* extra = nullptr; // where the system left some pages free behind the file
            InputFile(file).look_through([&](std::span<const std::byte> piece) {
                if (!std::exchange(first, false)) return;
                auto* const behind = const_cast<std::byte*>(piece.data()) + room;
                beside = behind == gap + room;
                if (beside || ::mmap(behind, page, PROT_READ | PROT_WRITE,
                                     MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED_NOREPLACE, -1, 0) != behind)
                    return;
                beside = true, extra = behind;
                std::fill_n(extra, page, kFull);
            });
            const auto untouched = [&](const std::byte* from, std::size_t bytes) {
                return std::all_of(from, from + bytes, [](std::byte b) { return b == kFull; });
            };
            CHECK(untouched(gap + room, kGuard));
            if (extra) CHECK(untouched(extra, page));
            ::munmap(gap + room, kGuard);
            if (extra) ::munmap(extra, page);
            if (!beside) higher.push_back(map(room));
        }
        for (std::byte* const blocked : higher)
            ::munmap(blocked, room);
        CHECK((beside || size > kAligned));
    }
}

#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__) // they take address space of their own
TEST_CASE("A file that cannot be mapped is looked through by reading it") {
    const TemporaryFolder folder;
    const fs::path file = folder / "a";
    std::ofstream(file) << "begins";
    fs::resize_file(file, 64 << 20); // more than is left to map
    const std::string wanted = content_digest(file);
    const pid_t child = ::fork();
    REQUIRE(child >= 0);
    if (child == 0) {
        std::ifstream sizes("/proc/self/statm");
        rlim_t pages = 0;
        sizes >> pages;
        const rlim_t most = pages * static_cast<rlim_t>(::sysconf(_SC_PAGESIZE)) + (16 << 20);
        const rlimit limit{most, most};
        const bool limited = ::setrlimit(RLIMIT_AS, &limit) == 0;
        bool maps = true;
        try {
            InputFile(file).mapped();
        } catch (const InputError&) {
            maps = false;
        }
        ::_exit(limited && !maps && content_digest(file) == wanted ? 0 : 1);
    }
    int status = -1;
    REQUIRE(::waitpid(child, &status, 0) == child);
    CHECK(status == 0);
}
#endif

TEST_CASE("A file that shrinks while it is looked through has no digest") {
    const TemporaryFolder folder;
    const fs::path file = folder / "a.fits";
    const std::string bytes(3 << 20, 'a');
    for (const bool grows_back : {false, true}) {
        std::ofstream(file) << bytes;
        std::size_t seen = 0;
        const auto digest_of_it = [&] {
            return content_digest(file, [&](std::span<const std::byte> piece) {
                if (seen == 0) fs::resize_file(file, 4096);
                if (grows_back && seen > 0) fs::resize_file(file, bytes.size());
                seen += piece.size();
            });
        };
        CHECK_THROWS_WITH(digest_of_it(), Catch::Contains("a.fits"));
        CHECK(seen > 0);
        CHECK(seen < bytes.size()); // no use in going on
    }
}

TEST_CASE("A folder, a pipe and nothing are no files") {
    const TemporaryFolder folder;
    REQUIRE(::mkfifo((folder / "pipe.fits").c_str(), 0600) == 0);
    REQUIRE(::mkfifo((folder / "pipe.png").c_str(), 0600) == 0);
    for (const char* name : {"pipe.fits", "pipe.png"})
        CHECK_THROWS_WITH(open_frame(folder / name), Catch::Contains("is not a file"));
    CHECK_THROWS_AS(InputFile(folder.path()), InputError);
    CHECK_THROWS_AS(InputFile(folder / "none"), InputError);
}

TEST_CASE("gzip files are read to their check sum") {
    const TemporaryFolder folder;
    write_fits_u16(folder / "a.fits", noisy(300, 200).plane(), {}, Over::anything);
    gzip(folder / "a.fits", folder / "a.fits.gz");
    const std::string good = read_file(folder / "a.fits.gz");
    const Image expected = read_plane(*open_fits(folder / "a.fits"));
    CHECK(read_plane(*open_fits(folder / "a.fits.gz")).pixels() == expected.pixels());
    const auto with = [&](std::string bytes) {
        std::ofstream(folder / "b.fits.gz", std::ios::binary) << bytes;
        return [&] { read_plane(*open_fits(folder / "b.fits.gz")); };
    };
    CHECK_NOTHROW(with(good + std::string(512, '\0'))()); // padding, as tapes leave it
    CHECK_THROWS_WITH(with(good.substr(0, good.size() - 9))(), Catch::Contains("end too soon"));
    CHECK_THROWS_AS(with(good.substr(0, good.size() / 2))(), InputError);
    CHECK_THROWS_WITH(with(good + "more")(), Catch::Contains("something else"));
    std::string zeroed = good, flipped = good;
    std::fill(zeroed.end() - 2000, zeroed.end(), '\0');
    CHECK_THROWS_AS(with(zeroed)(), InputError);
    flipped[good.size() - 6] = static_cast<char>(flipped[good.size() - 6] ^ 1); // the check sum itself
    CHECK_THROWS_AS(with(flipped)(), InputError);
    CHECK_THROWS_WITH(gunzip_file(folder / "a.fits.gz", 1000), Catch::Contains("more than"));
    // Two members, one after the other, are one file.
    write_text_safely(folder / "two", "", Over::anything);
    std::ofstream(folder / "two.gz", std::ios::binary) << good << good;
    CHECK(gunzip_file(folder / "two.gz", 1 << 24).size() == 2 * fs::file_size(folder / "a.fits"));
}

TEST_CASE("Damaged gzip tiles end with an error, in bounded time") {
    const TemporaryFolder folder;
    write_gzip_tiles(folder / "good.fz");
    CHECK(open_fits(folder / "good.fz")->width() == 200);
    CHECK_NOTHROW(read_plane(*open_fits(folder / "good.fz")));
    const std::string good = read_file(folder / "good.fz");
    const std::size_t heap = good.find("\x1f\x8b");
    REQUIRE(heap != std::string::npos);
    int refused = 0;
    sky::Random random(9);
    for (int i = 0; i < 60; ++i) {
        std::string bad = good;
        for (int k = 0; k < 3; ++k) {
            const auto at =
                heap + static_cast<std::size_t>(random.uniform() * static_cast<double>(good.size() - heap - 1));
            bad[at] = static_cast<char>(random.uniform() * 256);
        }
        if (i % 3 == 0) std::fill_n(bad.begin() + static_cast<std::ptrdiff_t>(heap) + 20, 400, '\0');
        std::ofstream(folder / "bad.fz", std::ios::binary) << bad;
        try {
            read_plane(*open_fits(folder / "bad.fz"));
        } catch (const InputError& e) {
            ++refused;
            CHECK(e.file() == folder / "bad.fz");
        }
    }
    CHECK(refused > 40); // others hit fill that belongs to no tile
    const std::string cut = good.substr(heap, 500);
    CHECK(gzip_problem(std::as_bytes(std::span(cut.data(), cut.size())), 1 << 20) == "it ends too soon");
}

TEST_CASE("A header that promises more than any camera makes is refused at once") {
    const TemporaryFolder folder;
    write_fits_u16(folder / "a.fits", noisy(100, 100).plane(), {}, Over::anything);
    std::string bytes = read_file(folder / "a.fits");
    for (const char* axis : {"NAXIS1  =                  100", "NAXIS2  =                  100"}) {
        const std::size_t at = bytes.find(axis);
        REQUIRE(at != std::string::npos);
        bytes.replace(at + 24, 6, "100000");
    }
    std::ofstream(folder / "a.fits", std::ios::binary) << bytes;
    fs::resize_file(folder / "a.fits", 20'000'005'760); // sparse: it takes no room
    CHECK_THROWS_WITH(read_fits_summary(folder / "a.fits"), Catch::Contains("100000 x 100000"));
}
