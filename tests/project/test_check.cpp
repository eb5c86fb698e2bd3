// What check and status say of whole projects, and what is remembered between runs.
#include "support/formats.hpp"
#include "support/places.hpp"
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/check.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/dng.hpp>
#include <kasane/sky/variants.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

CheckReport check(const fs::path& folder) {
    const Quiet quiet;
    return check_project({folder, {}, {}}, quiet.context);
}

StatusReport state_of(const fs::path& folder) {
    const Quiet quiet;
    return project_status({folder, {}, {}}, quiet.context);
}

const ResultStatus& light_of(const StatusReport& r) {
    for (const ResultStatus& s : r.results)
        if (s.kind == "master light") return s;
    throw std::runtime_error("no master light");
}

bool names(const std::vector<Finding>& findings, const std::string& code, const std::string& file) {
    return std::any_of(findings.begin(), findings.end(), [&](const Finding& f) {
        return f.code == code && std::find(f.files.begin(), f.files.end(), file) != f.files.end();
    });
}

void write_variant(const std::string& name, const fs::path& folder) {
    const Quiet quiet;
    sky::write_scenario(sky::demo_variant(name).make(), folder, quiet.context);
}

/// A small project that was run.
using Done = CopyOf<[](const fs::path& to) {
    write_small_project(to);
    run(to);
}>;

} // namespace

TEST_CASE("Check names every mistake of the night in which much went wrong") {
    const TemporaryFolder folder;
    write_variant("mistakes", folder / "p");
    const CheckReport r = check(folder / "p");
    const auto truth = nlohmann::json::parse(read_file(folder / "p.truth/truth.json"));
    CHECK(truth.at("mistakes").size() > 40);
    for (const auto& m : truth.at("mistakes")) {
        INFO(m.dump());
        CHECK(names(r.findings, m.at("code"), m.at("file")));
    }
    CHECK_FALSE(r.clean());
    const std::string text = check_text(r);
    for (const char* part :
         {"├─", "not taken", "scaled by 2.50", "with the bias", "turn = 90", "Findings", "A run will build"})
        CHECK_THAT(text, Catch::Contains(part));
    CHECK_FALSE(fs::exists(folder / "p/kasane"));
    CHECK(to_json(r).at("stacks").at(0).at("groups").at(0).at("near_misses").size() > 0);
}

TEST_CASE("Files that say nothing are told apart, and a run works on them") {
    const TemporaryFolder folder;
    write_variant("silent", folder / "p");
    const CheckReport r = check(folder / "p");
    const auto truth = nlohmann::json::parse(read_file(folder / "p.truth/truth.json"));
    std::size_t right = 0;
    for (const auto& f : truth.at("files"))
        for (const Exposure& e : r.scan.exposures)
            right += e.path == f.at("file") && role_name(e.role) == f.at("role").get<std::string>();
    CHECK(right == truth.at("files").size());
    CHECK(r.clean());
    CHECK(run(folder / "p").stacks.at(0).used == 8);
}

TEST_CASE("One-shot colour and DSLR files are understood and paired") {
    const TemporaryFolder folder;
    write_variant("colour", folder / "colour");
    const CheckReport colour = check(folder / "colour");
    REQUIRE(colour.pairing.stacks.size() == 1);
    CHECK(colour.pairing.stacks[0].mosaic);
    const LightPlan& l = colour.pairing.stacks[0].lights[0];
    CHECK(colour.pairing.masters[l.flat.value()].members.size() == 16);
    CHECK_THAT(colour.pairing.masters[*l.flat].offset_reason, Catch::Contains("bias"));

    write_variant("dslr", folder / "dslr");
    const CheckReport dslr = check(folder / "dslr");
    REQUIRE(dslr.pairing.stacks.size() == 1);
    CHECK(dslr.pairing.masters.size() == 5);
    for (const LightPlan& light : dslr.pairing.stacks[0].lights) {
        const Exposure& e = dslr.scan.exposures[light.exposure];
        CHECK(e.source(Field::role).origin == Origin::pixels); // IMG_4201.dng says nothing
        CHECK(e.gain_is_iso);
        CHECK(e.cfa == "RGGB");
        CHECK(e.night == "2031-03-12");
        const double mine = std::abs(*dslr.pairing.masters[light.dark.value()].temperature - *e.temperature);
        for (const MasterPlan& m : dslr.pairing.masters)
            CHECK(mine <= std::abs(*m.temperature - *e.temperature));
    }
    CHECK(state_of(folder / "dslr").results.back().state == ResultStatus::State::missing);
}

TEST_CASE("Status tells done from stale, and why") {
    const Done p;
    CHECK(state_of(p.path).all_done());
    CHECK_THAT(status_text(state_of(p.path)), Catch::Contains("All is done"));

    fs::rename(p.path / "night-1/lights/L_003.fits", p.folder / "held.fits");
    StatusReport r = state_of(p.path);
    CHECK(light_of(r).state == ResultStatus::State::stale);
    CHECK_THAT(light_of(r).reasons.at(0), Catch::Contains("L_003.fits is gone"));
    fs::rename(p.folder / "held.fits", p.path / "night-1/lights/L_003.fits");
    CHECK(state_of(p.path).all_done());

    fs::copy_file(p.path / "darks/dark_001.fits", p.path / "darks/dark_099.fits");
    std::fstream(p.path / "darks/dark_099.fits", std::ios::in | std::ios::out | std::ios::binary).seekp(5800)
        << "another";
    r = state_of(p.path);
    CHECK(light_of(r).reasons == std::vector<std::string>{"dark-120s_-10C is another"});
    fs::remove(p.path / "darks/dark_099.fits");

    write_recipe(p.path, "[[files]]\nmatch = \"**/flats/*\"\nexclude = true\n");
    r = state_of(p.path);
    CHECK(light_of(r).state == ResultStatus::State::stale);
    CHECK(r.leftovers == std::vector<std::string>{"masters/bias_-10C.fits", "masters/flat-L-2031-03-12.fits"});
    fs::remove(p.path / "kasane.toml");

    fs::remove(p.path / "kasane" / light_of(state_of(p.path)).file);
    CHECK(light_of(state_of(p.path)).state == ResultStatus::State::missing);
}

TEST_CASE("A moved, renamed or touched file costs nothing, an edited one is seen wherever the edit is") {
    const Done p;
    fs::rename(p.path / "night-1/lights", p.path / "night-1/moved lights");
    fs::rename(p.path / "night-1/moved lights/L_001.fits", p.path / "night-1/moved lights/zz lights 99.fits");
    const fs::path touched = p.path / "night-1/moved lights/L_005.fits";
    fs::last_write_time(touched, fs::last_write_time(touched) + std::chrono::hours(3));
    const RunReport r = run(p.path);
    CHECK(r.stacks.at(0).reused);
    CHECK(std::all_of(r.masters.begin(), r.masters.end(), [](const MasterReport& m) { return m.reused; }));
    CHECK(std::any_of(r.stacks[0].frames.begin(), r.stacks[0].frames.end(),
                      [](const FrameReport& f) { return f.path == "night-1/moved lights/zz lights 99.fits"; }));

    std::fstream file(touched, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(fs::file_size(touched) / 2 + 20000)); // far from its beginning and its end
    file << "changed";
    file.close();
    CHECK_FALSE(run(p.path).stacks.at(0).reused);
}

TEST_CASE("A limit for another filter, or one that says the same otherwise, leaves a master light as it is") {
    const Done p;
    write_recipe(p.path, "[grading]\nlimits = [\"standard\", \"fwhm > 0.5 x median for Ha\"]\n");
    CHECK(light_of(state_of(p.path)).state == ResultStatus::State::done);
    write_recipe(p.path, "[grading]\nlimits = [\"standard\", \"fwhm > 0.5 x median for L\"]\n");
    CHECK(light_of(state_of(p.path)).state == ResultStatus::State::stale);
}

TEST_CASE("A moved project works, and a copied one too, without doing it again") {
    const Done p;
    fs::rename(p.path, p.folder / "elsewhere");
    CHECK(run(p.folder / "elsewhere").stacks.at(0).reused);
    shell("cp -r " + (p.folder / "elsewhere").string() + " " + (p.folder / "copy").string()); // new times of change
    CHECK(run(p.folder / "copy").stacks.at(0).reused);
}

TEST_CASE("A library of darks outside the project serves it, and is not written to") {
    const Done p;
    fs::rename(p.path / "darks", p.folder / "library");
    const auto before = digests(p.folder / "library");
    CHECK(check(p.path).pairing.masters.size() == 1); // only the flats are left
    write_recipe(p.path, "[project]\nfolders = [\"../library\", \"../nowhere\"]\n");
    const RunReport r = run(p.path);
    CHECK(r.stacks.at(0).reused); // the same frames, wherever they lie
    CHECK(r.masters.size() == 3);
    CHECK(
        std::any_of(r.findings.begin(), r.findings.end(), [](const Finding& f) { return f.code == "folder-missing"; }));
    CHECK(digests(p.folder / "library") == before);
}

TEST_CASE("A dark of another exposure is scaled in the run, and hot pixels go") {
    const Done p;
    sky::PlainOptions other = small_options();
    other.lights = 0;
    other.seconds = 300;
    const TemporaryFolder elsewhere;
    write_small_project(elsewhere / "x", other);
    fs::remove_all(p.path / "darks");
    fs::copy(elsewhere / "x/darks", p.path / "darks", fs::copy_options::recursive);
    const RunReport r = run(p.path);
    CHECK(r.stacks.at(0).used == 10);
    CHECK(std::any_of(r.findings.begin(), r.findings.end(), [](const Finding& f) { return f.code == "dark-scaled"; }));
    // 0.02 e-/s over 120 s is nothing beside the sky; the noise is what the unscaled dark would give, and no hot pixel
    // stays.
    const Image master = read_plane(*open_fits(p.path / "kasane" / r.stacks[0].file));
    CHECK(r.stacks[0].noise == Approx(27.6 / std::sqrt(10.0)).epsilon(0.25));
    const Image truth = read_plane(*open_fits(elsewhere / "x.truth/defects.fits"));
    std::vector<float> on_hot, around;
    for (int y = 20; y < 220; ++y)
        for (int x = 20; x < 300; ++x)
            (truth(x, y) == 1 ? on_hot : around).push_back(master(x, y));
    CHECK(median_in_place(on_hot) == Approx(median_in_place(around)).margin(6));
}

TEST_CASE("Flats that were turned are used once the recipe turns them back") {
    const Done p;
    for (const auto& entry : fs::directory_iterator(p.path / "night-1/flats")) {
        const auto reader = open_fits(entry.path());
        const Header header = reader->header();
        const Image pixels = read_plane(*reader);
        Raster<std::uint16_t> turned(pixels.height(), pixels.width());
        for (int y = 0; y < turned.height(); ++y)
            for (int x = 0; x < turned.width(); ++x)
                turned(x, y) = static_cast<std::uint16_t>(pixels(pixels.width() - 1 - y, x)); // counter-clockwise
        Header kept;
        for (const char* key : {"IMAGETYP", "FILTER", "INSTRUME", "DATE-OBS"})
            kept.set(key, header.text(key).value_or(""));
        for (const char* key : {"EXPTIME", "GAIN", "OFFSET", "CCD-TEMP", "SET-TEMP"})
            kept.set(key, header.number(key).value_or(0));
        write_fits_u16(entry.path(), turned.plane(), kept, Over::anything);
    }
    const RunReport without = run(p.path);
    CHECK(std::any_of(without.findings.begin(), without.findings.end(),
                      [](const Finding& f) { return f.code == "orientation-differs"; }));
    CHECK(without.stacks.at(0).frames.at(0).flat.empty());
    write_recipe(p.path, "[[files]]\nmatch = \"night-1/flats/*\"\nturn = 90\n");
    const RunReport with = run(p.path);
    CHECK(with.stacks.at(0).frames.at(0).flat == "flat-L-2031-03-12");
    const Image flat = read_plane(*open_fits(p.path / "kasane/masters/flat-L-2031-03-12.fits"));
    const Image usual = read_plane(*open_fits(Done().path / "kasane/masters/flat-L-2031-03-12.fits"));
    REQUIRE(flat.bounds() == usual.bounds());
    double most = 0;
    for (std::size_t i = 0; i < flat.pixels().size(); ++i)
        most = std::max(most, std::abs(static_cast<double>(flat.pixels()[i] - usual.pixels()[i])));
    CHECK(most < 1e-5); // the same flat, turned there and back
}

TEST_CASE("Files that differ only where the fingerprint does not look are no copies, a picture beside a raw file is "
          "none more") {
    const Done p;
    const fs::path one = p.path / "night-1/lights/L_001.fits", other = p.path / "night-1/lights/L_050.fits";
    fs::copy_file(one, other);
    CHECK(names(check(p.path).findings, "duplicate-files", "night-1/lights/L_050.fits"));
    std::fstream file(other, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(fs::file_size(other) / 2 + 10000));
    file << "another";
    file.close();
    const CheckReport r = check(p.path);
    CHECK_FALSE(names(r.findings, "duplicate-files", "night-1/lights/L_050.fits"));
    CHECK(r.pairing.stacks.at(0).lights.size() == 11);

    fs::create_directory(p.folder / "raw");
    sky::write_dng(p.folder / "raw/IMG_1.dng", Raster<std::uint16_t>(320, 240, 1, 700).plane(), {});
    write_jpeg(p.folder / "raw/IMG_1.jpg", Raster<std::uint16_t>(320, 240, 3, 90));
    CHECK(check(p.folder / "raw").scan.exposures.size() == 1);
    CHECK_THROWS_AS(check(p.folder / "missing"), InputError);
    CHECK_FALSE(fs::exists(p.folder / "missing"));
}

TEST_CASE("A check sum that does not match is told by the run, and remembered") {
    const Done p;
    const fs::path light = p.path / "night-1/lights/L_004.fits";
    std::fstream file(light, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(fs::file_size(light) / 2));
    file << "xy";
    file.close();
    CHECK(names(run(p.path).findings, "checksum-mismatch", "night-1/lights/L_004.fits"));
    CHECK(names(run(p.path).findings, "checksum-mismatch", "night-1/lights/L_004.fits"));
    CHECK(names(check(p.path).findings, "checksum-mismatch", "night-1/lights/L_004.fits"));
}

TEST_CASE("Looking works where nothing may be written, and while a run holds the ledger") {
    const Done p;
    const Ledger held(p.path / ".kasane");
    CHECK(state_of(p.path).all_done()); // reads what is there
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    std::ofstream(folder / "p/.kasane") << "in the way of the ledger's folder";
    CHECK(check(folder / "p").pairing.stacks.size() == 1);
}

TEST_CASE("A ledger of the first version is brought up to date, a newer one is put aside") {
    const TemporaryFolder folder;
    { Ledger made(folder / "l"); }
    const std::string file = (folder / "l/ledger.sqlite").string();
    const auto sql = [&](const std::string& text) {
        return shell("python3 -c \"import sqlite3; d = sqlite3.connect('" + file + "'); d.executescript('" + text +
                     "'); d.commit()\"")
            .status;
    };
    if (sql("SELECT 1") != 0) {
        WARN("no python3 with sqlite3: the migration is not tested");
        return;
    }
    REQUIRE(
        sql("DROP TABLE files; CREATE TABLE files (path TEXT PRIMARY KEY, size INTEGER, modified INTEGER, record "
            "TEXT) WITHOUT ROWID; DROP TABLE facts; CREATE TABLE facts (key TEXT PRIMARY KEY, kind TEXT, body BLOB); "
            "DROP TABLE choices; CREATE TABLE choices (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID; "
            "INSERT INTO choices VALUES (1, 2); PRAGMA user_version = 1") == 0);
    {
        const Ledger old(folder / "l");
        CHECK_FALSE(old.was_damaged());
        CHECK(old.choice("1").value() == "2");
        CHECK(old.files().empty());
    }
    REQUIRE(sql("PRAGMA user_version = 99") == 0);
    CHECK(Ledger(folder / "l").was_damaged());
    CHECK(fs::exists(folder / "l/ledger.newer"));
    REQUIRE(sql("PRAGMA user_version = 98") == 0);
    CHECK(Ledger(folder / "l").put_aside().filename() == "ledger.newer-2"); // never over an earlier one
}

TEST_CASE("Results that would go among the exposures are told before they do") {
    const Done p;
    const Quiet quiet;
    const fs::path among = p.path / "night-1/lights/results";
    const CheckReport r = check_project({p.path, among, {}}, quiet.context);
    CHECK(std::any_of(r.findings.begin(), r.findings.end(),
                      [](const Finding& f) { return f.code == "output-inside-inputs"; }));
    const CheckReport elsewhere = check_project({p.path, p.folder / "results", {}}, quiet.context);
    CHECK(elsewhere.clean());
    CHECK(elsewhere.cost.lights == 10);
    CHECK(elsewhere.cost.free_bytes > 0);
}

TEST_CASE("Every documented finding can come, and every finding that can come is documented") {
    std::string sources;
    for (const auto& entry : fs::recursive_directory_iterator(std::string(kSources) + "/kasane"))
        if (entry.is_regular_file()) sources += read_file(entry.path());
    const std::string text = read_file(std::string(kSources) + "/docs/gathering.md");
    std::istringstream table(text.substr(text.find("| code | level |")));
    std::string line;
    std::set<std::string> documented;
    while (std::getline(table, line) && line.starts_with("|"))
        for (std::size_t at = line.find('`'); at < line.find('|', 1); at = line.find('`', line.find('`', at + 1) + 1))
            documented.insert(line.substr(at + 1, line.find('`', at + 1) - at - 1));
    CHECK(documented.size() > 35);
    for (const std::string& code : documented) {
        INFO(code);
        CHECK(sources.find("\"" + code + "\"") != std::string::npos);
    }
    const TemporaryFolder folder;
    write_variant("mistakes", folder / "p");
    for (const Finding& f : check(folder / "p").findings) {
        INFO(f.code);
        CHECK(documented.count(f.code) == 1);
    }
}

TEST_CASE("Links that lead in circles, names with newlines and quotes, and files that vanish do no harm") {
    const Done p;
    fs::create_directory_symlink(p.path, p.path / "night-1/again");
    fs::create_directory_symlink(p.path / "night-1/lights", p.path / "loop lights");
    fs::rename(p.path / "night-1/lights/L_002.fits", p.path / "night-1/lights/L \"2\"\n'x'.fits");
    const CheckReport r = check(p.path);
    CHECK(r.pairing.stacks.at(0).lights.size() == 10);
    CHECK_THAT(check_text(r), !Catch::Contains("\"2\"\n"));
    CHECK(run(p.path).stacks.at(0).used == 10);

    class Remover final : public Progress {
    public:
        explicit Remover(fs::path file) : file_(std::move(file)) {}
        void begin(const std::string& stage, std::int64_t) override {
            if (stage == "scan") fs::remove(file_);
        }

    private:
        fs::path file_;
    } vanishes(p.path / "night-1/lights/L_009.fits");
    fs::last_write_time(p.path / "night-1/lights/L_009.fits", fs::file_time_type::clock::now());
    const Workers workers(2);
    const CheckReport gone = check_project({p.path, {}, {}}, {workers, {1ull << 30}, vanishes});
    CHECK(gone.pairing.stacks.at(0).lights.size() == 9);
    CHECK(names(gone.findings, "file-unreadable", "night-1/lights/L_009.fits"));
}

TEST_CASE("Pictures of other formats are exposures too: TIFF lights with a FITS dark become a master light") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    for (const auto& entry : fs::directory_iterator(folder / "p/night-1/lights")) {
        const Image pixels = read_plane(*open_fits(entry.path()));
        Raster<std::uint16_t> counts(pixels.width(), pixels.height());
        std::transform(pixels.pixels().begin(), pixels.pixels().end(), counts.pixels().begin(),
                       [](float v) { return static_cast<std::uint16_t>(v); });
        fs::path tiff = entry.path();
        write_tiff(tiff.replace_extension(".tif"), counts, {.rows_per_strip = 240, .deflate = true});
        fs::remove(entry.path());
    }
    std::ofstream(folder / "p/kasane.toml")
        << "[[files]]\nmatch = \"*.tif\"\nfilter = \"L\"\ncamera = \"Simulated mono camera\"\ngain = 100\n"
           "offset = 50\nseconds = 120\n";
    const RunReport r = run(folder / "p");
    CHECK(r.stacks.at(0).used == 10);
    CHECK(r.stacks.at(0).frames.at(0).dark == "dark-120s_-10C");
    CHECK(fs::exists(folder / "p/.kasane/cache"));
    CHECK(run(folder / "p").stacks.at(0).reused);
}
