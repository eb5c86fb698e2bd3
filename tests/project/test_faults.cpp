// Files and disks that fail for a while, and memory that was altered: nothing wrong stays behind.
#include "support/places.hpp"
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/file_stamp.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/project/check.hpp>
#include <kasane/project/run.hpp>
#include <kasane/sky/variants.hpp>

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <sqlite3.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

using Copy = CopyOf<[](const fs::path& to) { write_small_project(to); }>;

/// What an undisturbed run makes.
const std::map<std::string, std::string>& undisturbed() {
    static const Copy p;
    static const auto results = [] {
        run(p.path);
        return digests(p.path / "kasane");
    }();
    return results;
}

RunReport run_with(const fs::path& folder, Progress& progress) {
    const Workers workers(2);
    return run_project({folder, {}, {}}, {workers, {1ull << 30}, progress});
}

void cut(const fs::path& file) {
    fs::resize_file(file, 4000);
}

/// The files below a folder whose names begin so, cut short and restored together.
class Cuttable {
public:
    Cuttable(const fs::path& folder, const std::string& beginning) {
        for (const auto& entry : fs::recursive_directory_iterator(folder))
            if (entry.is_regular_file() && entry.path().filename().string().starts_with(beginning))
                contents_[entry.path()] = read_file(entry.path());
        REQUIRE(contents_.size() > 1);
    }
    void cut_all() const {
        for (const auto& [file, unused] : contents_)
            cut(file);
    }
    void restore() const {
        for (const auto& [file, content] : contents_)
            std::ofstream(file, std::ios::binary) << content;
    }

private:
    std::map<fs::path, std::string> contents_;
};

} // namespace

TEST_CASE("A file that cannot be read during a run is taken in by the next, whatever it is and whenever it fails") {
    const std::string stage = GENERATE("masters", "measure", "integrate");
    const char* file = GENERATE("night-1/lights/L_003.fits", "night-1/lights/L_007.fits", "darks/dark_002.fits",
                                "darks/bias_001.fits", "night-1/flats/flat-L_004.fits");
#if defined(__SANITIZE_ADDRESS__) // whole runs take ten times as long there: each file at one stage
    const std::string name(file);
    const bool light = name.find("lights") != std::string::npos;
    if (stage != (!light ? "masters" : name.ends_with("L_007.fits") ? "integrate" : "measure")) return;
#endif
    const Copy p;
    const fs::path full = p.path / file;
    REQUIRE(fs::exists(full));
    const std::string content = read_file(full);
    Meddler meddler;
    meddler.at[stage] = [&] { cut(full); };
    const RunReport disturbed = run_with(p.path, meddler);
    INFO(stage << " " << file);
    const bool touched = stage == "masters" || std::string(file).find("lights") != std::string::npos;
    CHECK(disturbed.clean() == !touched); // what was read before is not missed
    std::ofstream(full, std::ios::binary) << content;
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
    CHECK(status_of(p.path).all_done());
    const RunReport again = run(p.path);
    CHECK(again.stacks.front().reused);
}

TEST_CASE("All inputs cut short in the middle of a run and restored: the next run is as the first") {
    const std::string stage = GENERATE("masters", "measure", "integrate");
    const Copy p;
    const Cuttable all(p.path, "");
    Meddler meddler;
    meddler.at[stage] = [&] { all.cut_all(); };
    try {
        run_with(p.path, meddler);
    } catch (const Error&) { // nothing could be made: that may be said
    }
    all.restore();
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
    CHECK(status_of(p.path).all_done());
}

TEST_CASE("A flat whose offset could not be read for a while is made by the next run") {
    const Copy p;
    const Cuttable offsets(p.path, "bias_");
    Meddler meddler;
    meddler.at["masters"] = [&] { offsets.cut_all(); };
    CHECK_FALSE(run_with(p.path, meddler).clean());
    offsets.restore();
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
    CHECK(status_of(p.path).all_done());
}

TEST_CASE("A file that is unreadable when the folder is scanned leads nothing astray once it can be read") {
    const Copy whole, p;
    const std::string reference = run(whole.path).stacks.front().reference;
    const std::string content = read_file(p.path / reference);
    cut(p.path / reference);
    CHECK(run(p.path).stacks.front().reference != reference);
    CHECK(status_of(p.path).all_done()); // of what is there
    std::ofstream(p.path / reference, std::ios::binary) << content;
    CHECK(run(p.path).stacks.front().reference == reference);
    CHECK(digests(p.path / "kasane") == undisturbed());
}

TEST_CASE("A file that cannot be looked at to tell its role is taken in by the next run with all that was chosen "
          "without it") {
    const TemporaryFolder folder;
    const Quiet quiet;
    for (const char* name : {"disturbed", "calm"})
        sky::write_scenario(sky::demo_variant("silent").make(), folder / name, quiet.context);
    run(folder / "calm");
    const fs::path flat = folder / "disturbed/heap/img_0110.fits"; // nothing but its pixels says so
    const std::string content = read_file(flat);
    Meddler meddler;
    meddler.at["look"] = [&] { cut(flat); };
    const RunReport disturbed = run_with(folder / "disturbed", meddler);
    CHECK(find(disturbed.findings, "pixels-unreadable"));
    std::ofstream(flat, std::ios::binary) << content;
    CHECK_FALSE(find(run(folder / "disturbed").findings, "pixels-unreadable"));
    CHECK(digests(folder / "disturbed/kasane/lights") == digests(folder / "calm/kasane/lights"));
    CHECK(status_of(folder / "disturbed").all_done());
}

TEST_CASE("A file that is replaced while it is read is not measured under its old name") {
    const Copy p;
    const fs::path a = p.path / "night-1/lights/L_002.fits", b = p.path / "night-1/lights/L_005.fits";
    const std::string original = read_file(a), other = read_file(b);
    Meddler meddler;
    meddler.at["measure"] = [&] { std::ofstream(a, std::ios::binary) << other; };
    const RunReport r = run_with(p.path, meddler);
    for (const FrameReport& f : r.stacks.front().frames)
        if (f.path.ends_with("L_002.fits")) {
            CHECK_FALSE(f.used);
            CHECK_THAT(f.reason, Catch::Contains("changed while it was being read"));
        }
    std::ofstream(a, std::ios::binary) << original;
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
}

TEST_CASE("An edit that keeps size and time of a file is seen") {
    const Copy p;
    run(p.path);
    const fs::path file = p.path / "night-1/lights/L_004.fits";
    const auto time = fs::last_write_time(file);
    std::string bytes = read_file(file);
    bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 0x10); // far from head and tail
    std::ofstream(file, std::ios::binary) << bytes;
    fs::last_write_time(file, time);
    CHECK_FALSE(status_of(p.path).all_done());
    CHECK_FALSE(run(p.path).stacks.front().reused);
    CHECK(status_of(p.path).all_done());
}

TEST_CASE("Clocks of another century, and clocks that went back, neither hide an edit nor cost a result") {
    const Copy p;
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
    // Exposures, results and what is remembered, as if written long ago or in the future, half of them each.
    const auto date_all = [&](const std::string& even, const std::string& odd) {
        std::vector<fs::path> files;
        for (const auto& entry : fs::recursive_directory_iterator(p.path))
            if (entry.is_regular_file()) files.push_back(entry.path());
        std::sort(files.begin(), files.end());
        std::string lines;
        for (std::size_t k = 0; k < files.size(); ++k)
            lines += fmt::format("touch -d '{}' '{}'; ", k % 2 ? odd : even, files[k].string());
        REQUIRE(shell(lines).status == 0);
    };
    for (const auto& [even, odd] : {std::pair("1958-03-01", "2199-12-31"), std::pair("2040-01-01", "1990-01-01")}) {
        INFO(even << " " << odd);
        date_all(even, odd);
        CHECK(status_of(p.path).all_done());
        const RunReport again = run(p.path);
        CHECK(again.stacks.front().reused);
        CHECK(digests(p.path / "kasane") == undisturbed());
    }
    // An edit whose time lies before that of the file it replaces.
    const fs::path file = p.path / "night-1/lights/L_004.fits";
    std::string bytes = read_file(file);
    bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 0x10);
    std::ofstream(file, std::ios::binary) << bytes;
    REQUIRE(shell(fmt::format("touch -d 1970-01-01T00:00:00Z '{}'", file.string())).status == 0);
    CHECK_FALSE(status_of(p.path).all_done());
    CHECK_FALSE(run(p.path).stacks.front().reused);
    CHECK(status_of(p.path).all_done());
}

TEST_CASE("Results and masters whose bytes were altered are made again") {
    const Copy p;
    run(p.path);
    for (const char* name : {"masters/dark-120s_-10C.fits", "masters/flat-L-2031-03-12.fits",
                             "lights/Paper-Lantern-Field-L.fits", "lights/Paper-Lantern-Field-L.png"}) {
        INFO(name);
        const fs::path file = p.path / "kasane" / name;
        const auto time = fs::last_write_time(file);
        std::string bytes = read_file(file);
        bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 0x40);
        std::ofstream(file, std::ios::binary) << bytes;
        fs::last_write_time(file, time);
        CHECK_FALSE(status_of(p.path).all_done());
        run(p.path);
        CHECK(digests(p.path / "kasane") == undisturbed());
        CHECK_FALSE(fs::exists(p.path / ".kasane/former")); // it is no former master light
        CHECK(status_of(p.path).all_done());
    }
}

namespace {

/// Runs SQL on a ledger; text results, a row after the other.
std::vector<std::string> sql(const fs::path& ledger, const std::string& text) {
    sqlite3* db = nullptr;
    REQUIRE(sqlite3_open(ledger.c_str(), &db) == SQLITE_OK);
    std::vector<std::string> out;
    char* why = nullptr;
    const auto take = [](void* to, int, char** values, char**) {
        static_cast<std::vector<std::string>*>(to)->emplace_back(values[0] ? values[0] : "");
        return 0;
    };
    const int status = sqlite3_exec(db, text.c_str(), take, &out, &why);
    INFO((why ? why : ""));
    CHECK(status == SQLITE_OK);
    sqlite3_free(why);
    sqlite3_close(db);
    return out;
}

} // namespace

TEST_CASE("Altered rows of the ledger are forgotten and found out again") {
    for (const char* change : {"UPDATE facts SET body = zeroblob(length(body))",
                               "UPDATE facts SET body = CAST(replace(CAST(body AS TEXT), '1', '7') AS BLOB)",
                               "UPDATE files SET record = substr(record, 1, length(record) - 9)",
                               "UPDATE files SET fingerprint = 'f', content = 'c', revision = 'r'",
                               "UPDATE choices SET value = value || '0'"}) {
        INFO(change);
        const Copy p;
        run(p.path);
        sql(p.path / ".kasane/ledger.sqlite", change);
        const RunReport r = run(p.path);
        CHECK(find(r.findings, "ledger-rows-forgotten"));
        CHECK(digests(p.path / "kasane") == undisturbed());
    }
    // The body of one row under the key of another.
    const Copy p;
    run(p.path);
    sql(p.path / ".kasane/ledger.sqlite",
        "CREATE TABLE swapped AS SELECT key, body, digest FROM facts ORDER BY length(body), key;"
        "UPDATE facts SET body = (SELECT body FROM swapped WHERE swapped.rowid = (SELECT t.rowid FROM swapped AS t "
        "WHERE "
        "t.key = facts.key) % (SELECT count(*) FROM swapped) + 1);");
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
}

TEST_CASE("Only proven damage puts a ledger aside, never over an earlier one") {
    const TemporaryFolder folder;
    const fs::path file = folder / "l/ledger.sqlite";
    {
        Ledger made(folder / "l");
        made.set_choice("a", "1");
    }
    const std::string good = read_file(file);
    std::ofstream(file) << "this was a ledger once, and is long enough to be looked at";
    CHECK(Ledger(folder / "l").put_aside().filename() == "ledger.damaged");
    std::ofstream(file) << "and again, still long enough to be looked at closely";
    CHECK(Ledger(folder / "l").put_aside().filename() == "ledger.damaged-2");
    CHECK_THAT(read_file(folder / "l/ledger.damaged"), Catch::Contains("a ledger once"));
    // A page of a good one overwritten.
    std::string bad = good;
    std::fill(bad.begin() + 4096, bad.begin() + 8000, '\x5a');
    std::ofstream(file, std::ios::binary) << bad;
    CHECK(Ledger(folder / "l").was_damaged());
    // A good one that cannot be written to is no damage.
    std::ofstream(file, std::ios::binary) << good;
    fs::remove(folder / "l/ledger.sqlite-wal");
    fs::remove(folder / "l/ledger.sqlite-shm");
    fs::create_directory(folder / "l/ledger.sqlite-wal");
    CHECK_THROWS_AS(Ledger(folder / "l"), OutputError);
    CHECK(read_file(file) == good);
    const Ledger looked(folder / "l", Ledger::Use::look);
    CHECK(looked.choice("a").value_or("") == "1"); // as it is, unlocked
    CHECK(read_file(file) == good);
}

TEST_CASE("Looking at a project keeps no run from starting, a run does, and a lock that cannot be opened is said") {
    const TemporaryFolder folder;
    const Ledger looking(folder / "l", Ledger::Use::look);
    {
        Ledger working(folder / "l");
        working.set_choice("a", "1");
        CHECK(looking.choice("a").value() == "1");
        CHECK_THROWS_WITH(Ledger(folder / "l"), Catch::Contains("another run"));
    }
    fs::remove(folder / "l/lock");
    fs::create_directory(folder / "l/lock");
    CHECK_THROWS_WITH(Ledger(folder / "l"), Catch::Contains("the lock cannot be opened"));
}

TEST_CASE("A full disk costs no ledger, whoever opens it") {
    if (shell("unshare --mount true").status != 0) {
        WARN("no mount namespace can be made here: the full disk is not tested");
        return;
    }
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string small = (folder / "small").string(), p = (folder / "p").string();
    fs::create_directory(small);
    std::string script = "set -e\nmount -t tmpfs -o size=40m tmpfs " + small + "\n{kasane} run -q " + p + " -o " +
                         small + "\ncp " + small + "/.kasane/ledger.sqlite " + p + "/../before\n" +
                         "dd if=/dev/zero of=" + small + "/fill bs=4096 2>/dev/null || true\nset +e\n" +
                         "for verb in status check scan; do {kasane} $verb -q " + p + " -o " + small + "; done\n" +
                         "{kasane} run -q " + p + " -o " + small + "\necho run $?\n" + "ls " + small + "/.kasane\nrm " +
                         small + "/fill\n{kasane} status -q " + p + " -o " + small + "\necho status $?\numount " +
                         small + "\n";
    for (std::size_t at; (at = script.find("{kasane}")) != std::string::npos;)
        script.replace(at, 8, kCommand);
    std::ofstream(folder / "script.sh") << script;
    const Outcome o = shell("unshare --mount sh " + (folder / "script.sh").string());
    INFO(o.out << o.err);
    CHECK(o.out.find("ledger.damaged") == std::string::npos);
    CHECK_THAT(o.out, Catch::Contains("status 0"));
}
