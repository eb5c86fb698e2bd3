#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/file_stamp.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/spelling.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/io/png.hpp>

#include <catch2/catch.hpp>
#include <fstream>
#include <functional>
#include <sys/wait.h>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

TEST_CASE("Nothing is written over a file that Kasane did not write, and its own work can be replaced") {
    const TemporaryFolder folder;
    const Image image(32, 24, 1, 7.0f);
    const Raster<std::uint8_t> picture(32, 24, 1, 7);
    const auto writers = std::vector<std::pair<std::string, std::function<void(const fs::path&)>>>{
        {"a.fits",
         [&](const fs::path& f) {
             write_fits(f, {{image.plane(), {}}});
         }},
        {"a.png", [&](const fs::path& f) { write_png(f, picture); }},
        {"a.jpg", [&](const fs::path& f) { write_jpeg(f, picture); }},
        {"a.txt", [&](const fs::path& f) { write_text_safely(f, std::string(kReportMark) + "text"); }},
        {"a.csv", [&](const fs::path& f) { write_text_safely(f, std::string(kTableMark) + "verdict\r\n"); }},
    };
    for (const auto& [name, write] : writers) {
        INFO(name);
        const fs::path own = folder / name, other = folder / ("other-" + name);
        write(own);
        CHECK(is_own_work(own));
        CHECK_NOTHROW(write(own));
        // A camera's file of the same format, and text that nobody knows.
        for (const std::string& content : {std::string("SIMPLE  =                    T"), std::string("\x89PNG\r\n"),
                                           std::string("notes"), std::string()}) {
            std::ofstream(other, std::ios::binary) << content;
            CHECK_THROWS_AS(write(other), UsageError);
            CHECK_THROWS_WITH(write(other), Catch::Contains("other-" + name) && Catch::Contains("did not write"));
            CHECK(read_file(other) == content);
        }
    }
    // A raw exposure, as the simulator writes it, never says that it is ours.
    write_fits_u16(folder / "light.fits", Raster<std::uint16_t>(32, 24).plane(), {}, Over::anything);
    const std::string before = read_file(folder / "light.fits");
    CHECK_THROWS_AS(write_png(folder / "light.fits", picture), UsageError);
    CHECK(read_file(folder / "light.fits") == before);
    fs::create_directory(folder / "album");
    CHECK_THROWS_AS(write_png(folder / "album", picture), UsageError);
}

TEST_CASE("A read-only copy can be written as a file of its own") {
    const TemporaryFolder folder;
    std::ofstream(folder / "a") << "x";
    fs::permissions(folder / "a", fs::perms::owner_read);
    CHECK_NOTHROW(write_file_safely(folder / "b", [&](const fs::path& t) { fs::copy_file(folder / "a", t); }));
    CHECK((fs::status(folder / "b").permissions() & fs::perms::owner_write) == fs::perms::none);
}

TEST_CASE("Temporaries of processes that run stay, those of others go, in the folders below too") {
    const TemporaryFolder folder;
    fs::create_directories(folder / "a/b");
    const auto touch = [&](const std::string& name) { std::ofstream(folder / name) << "half"; };
    const std::string running = "a/b/.kasane-part-" + std::to_string(::getppid()) + "-x.fits";
    touch(running);
    touch("a/b/.kasane-part-99999999-x.fits");
    touch("a/.kasane-part-99999999-y");
    touch("a/b/x.fits");
    const pid_t child = ::fork();
    if (child == 0) ::_exit(0);
    siginfo_t ended{};
    REQUIRE(::waitid(P_PID, static_cast<id_t>(child), &ended, WEXITED | WNOWAIT) == 0); // ended, and not asked for yet
    const std::string killed = "a/b/.kasane-part-" + std::to_string(child) + "-z.fits";
    touch(killed);
    remove_leftovers(folder / "a");
    CHECK_FALSE(fs::exists(folder / "a/.kasane-part-99999999-y"));
    CHECK(fs::exists(folder / "a/b/.kasane-part-99999999-x.fits"));
    remove_leftovers(folder / "a", Depth::deep);
    CHECK_FALSE(fs::exists(folder / "a/b/.kasane-part-99999999-x.fits"));
    CHECK_FALSE(fs::exists(folder / killed));
    CHECK(fs::exists(folder / running));
    CHECK(fs::exists(folder / "a/b/x.fits"));
    ::waitpid(child, nullptr, 0);
}

TEST_CASE("A stamp sees an edit that sets size and time back") {
    const TemporaryFolder folder;
    std::ofstream(folder / "a") << "first";
    const auto before = file_stamp(folder / "a");
    const auto time = fs::last_write_time(folder / "a");
    ::usleep(20000); // the clock of file systems is coarse
    std::ofstream(folder / "a") << "other";
    fs::last_write_time(folder / "a", time);
    const auto after = file_stamp(folder / "a");
    CHECK(before->modified == after->modified);
    CHECK(before->size == after->size);
    CHECK_FALSE(before == after);
    CHECK_FALSE(file_stamp(folder / "none"));
}

TEST_CASE("The nearest word is found, and none where none is near") {
    const std::vector<std::string> words = {"run", "status", "review"};
    CHECK(nearest_word("statsu", words) == "status");
    CHECK(nearest_word("rnu", words) == "run");
    CHECK(nearest_word("calibration", words).empty());
}
