#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/stages/scan.hpp>

#include <catch2/catch.hpp>
#include <fstream>
#include <sys/wait.h>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

TEST_CASE("The ledger remembers files, facts of any bytes, and choices") {
    const TemporaryFolder folder;
    const std::string bytes("a\0b'\xff", 5);
    {
        Ledger l(folder / ".kasane");
        l.set_file("night/a'b.fits", {123, -5, 7, "print", "whole", "", bytes, ""});
        l.set_fact("key", bytes);
        l.set_choice("reference/x", "one");
        l.set_choice("reference/x", "two");
    }
    const Ledger l(folder / ".kasane");
    const auto files = l.files();
    REQUIRE(files.count("night/a'b.fits") == 1);
    CHECK(files.at("night/a'b.fits").size == 123);
    CHECK(files.at("night/a'b.fits").modified == -5);
    CHECK(files.at("night/a'b.fits").record == bytes);
    CHECK(l.file_like("print")->content == "whole");
    CHECK_FALSE(l.file_like("other"));
    CHECK(l.fact("key").value() == bytes);
    CHECK(l.choice("reference/x").value() == "two");
    CHECK_FALSE(l.fact("other"));
    CHECK_FALSE(l.was_damaged());
}

TEST_CASE("A ledger may lie deeper than SQLite reaches") {
    const TemporaryFolder folder;
    fs::path deep = folder.path();
    while (deep.string().size() < 3700) // paths end at 4096
        deep /= std::string(200, 'd');
    fs::create_directories(deep);
    {
        Ledger l(deep / ".kasane");
        l.set_fact("key", "value");
        CHECK_THROWS_AS(Ledger(deep / ".kasane"), UsageError); // locked as any other
    }
    CHECK(fs::exists(deep / ".kasane/ledger.sqlite"));
    CHECK(Ledger(deep / ".kasane", Ledger::Use::look).fact("key") == "value");
    std::ofstream(deep / ".kasane/ledger.sqlite") << "no ledger";
    const Ledger anew(deep / ".kasane");
    CHECK(anew.was_damaged());
    CHECK(fs::exists(deep / ".kasane/ledger.damaged"));
}

TEST_CASE("What fails in the middle of a transaction leaves nothing") {
    const TemporaryFolder folder;
    Ledger l(folder / ".kasane");
    CHECK_THROWS_AS(l.together([&] {
        l.set_choice("a", "1");
        throw DataError("stop", {}, {});
    }),
                    DataError);
    CHECK_FALSE(l.choice("a"));
}

TEST_CASE("A scan opens only files that are new or changed") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const Quiet quiet;
    Ledger ledger(folder / ".kasane");
    const auto scan = [&] { return scan_folder({folder / "p", folder / "p/kasane", {}}, ledger, quiet.context); };
    CHECK(scan().from_ledger == 0);
    CHECK(scan().from_ledger == 28);
    const fs::path file = folder / "p/night-1/lights/L_001.fits";
    fs::last_write_time(file, fs::last_write_time(file) + std::chrono::seconds(5));
    const Scan changed = scan();
    CHECK(changed.from_ledger == 27);
    CHECK(changed.exposures.size() == 28);
}

TEST_CASE("A scan passes over what is no exposure, hidden, or its own result, and names what is broken") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    fs::create_directories(folder / "p/.trash");
    fs::copy(folder / "p/night-1/lights/L_001.fits", folder / "p/.trash/old.fits");
    fs::create_directories(folder / "p/kasane/lights");
    fs::copy(folder / "p/night-1/lights/L_001.fits", folder / "p/kasane/lights/x.fits");
    fs::create_directories(folder / "p/album.fits");
    fs::create_symlink(folder / "nowhere.fits", folder / "p/link.fits");
    std::ofstream(folder / "p/notes.txt") << "clear until two";
    std::ofstream(folder / "p/strange \n name.fits") << "no image";
    const Quiet quiet;
    Ledger ledger(folder / ".kasane");
    const Scan s = scan_folder({folder / "p", folder / "p/kasane", {}}, ledger, quiet.context);
    CHECK(s.exposures.size() == 28);
    CHECK(s.other_files == 1);
    CHECK(s.findings.size() == 4);
    CHECK(s.unreadable.size() == 3);
    for (const Finding& f : s.findings) // a light among the results is passed over, and told
        CHECK(f.code == (f.files.front() == "kasane/lights/x.fits" ? "output-hides-files" : "file-unreadable"));
}

TEST_CASE("Names in capitals and short endings are exposures too") {
    CHECK(is_readable_name("A.FIT"));
    CHECK(is_readable_name("a.fts"));
    CHECK_FALSE(is_readable_name("a.fits.txt"));
    CHECK_FALSE(is_readable_name("fits"));
}

TEST_CASE("A ledger knows whether its former user was cut off") {
    const TemporaryFolder folder;
    { CHECK_FALSE(Ledger(folder / "l").former_was_cut_off()); }
    const pid_t child = fork();
    if (child == 0) {
        const Ledger working(folder / "l");
        _exit(0); // as if killed: nothing is put in order
    }
    int status = 0;
    REQUIRE(waitpid(child, &status, 0) == child);
    { const Ledger looking(folder / "l", Ledger::Use::look); } // which does not know what to do about it
    { CHECK(Ledger(folder / "l").former_was_cut_off()); }
    CHECK_FALSE(Ledger(folder / "l").former_was_cut_off());
}
