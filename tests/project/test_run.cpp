#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/run.hpp>
#include <kasane/report/tables.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

using Copy = CopyOf<[](const fs::path& to) { write_small_project(to); }>;

} // namespace

TEST_CASE("A bare folder becomes a master light that shows the sky to the noise") {
    const Copy p;
    const auto before = digests(p.path);
    const RunReport r = run(p.path);
    REQUIRE(r.stacks.size() == 1);
    const StackReport& s = r.stacks[0];
    CHECK(s.used == 10);
    CHECK(s.dropped == 0);
    CHECK(r.clean());
    CHECK(r.masters.size() == 3);
    CHECK(s.seconds_total == 1200);
    CHECK(s.seconds_effective > 1000);
    CHECK(s.fwhm == Approx(3.0).epsilon(0.1));
    for (const FrameReport& f : s.frames) {
        CHECK(f.matched > 20);
        CHECK(f.dark == "dark-120s_-10C");
        CHECK(f.flat == "flat-L-2031-03-12");
    }
    const auto reader = open_fits(p.path / "kasane" / s.file);
    CHECK(reader->header().number("NCOMBINE").value() == 10);
    CHECK(reader->header().text("FILTER").value() == "L");
    CHECK(reader->header().find("CHECKSUM"));
    const Image coverage = read_plane(*open_fits(p.path / "kasane" / s.file, "COVERAGE"));
    CHECK(coverage(160, 120) > 0.6);
    CHECK(fs::file_size(p.path / "kasane" / s.preview) > 1000);
    // 480 electrons of sky at 0.8 e-/ADU and read noise 2.2: 27.6 ADU a frame; ten frames.
    // Ten frames, less than all at the edges, and a little nebula in the background.
    CHECK(s.noise == Approx(27.6 / std::sqrt(10.0)).epsilon(0.2));
    auto after = digests(p.path, {"kasane"});
    CHECK(after == before); // originals untouched, nothing else in the folder
}

TEST_CASE("A second run does nothing and says the same") {
    const Copy p;
    const RunReport first = run(p.path);
    const auto results = digests(p.path / "kasane");
    const RunReport second = run(p.path);
    CHECK(second.stacks[0].reused);
    CHECK(second.masters[0].reused);
    CHECK(second.stacks[0].noise == first.stacks[0].noise);
    CHECK(digests(p.path / "kasane") == results);
    CHECK(second.time < 1.0);
}

TEST_CASE("Results are the same to the byte whatever the threads, and after the ledger is deleted") {
    const Copy a, b;
    run(a.path, 1);
    run(b.path, 3);
    const auto results = digests(a.path / "kasane");
    CHECK(digests(b.path / "kasane") == results);
    fs::remove_all(a.path / ".kasane");
    run(a.path);
    CHECK(digests(a.path / "kasane") == results);
}

TEST_CASE("A new file costs itself and its stack, a result that is deleted is made again") {
    const Copy p;
    const fs::path held = p.folder / "held.fits", light = p.path / "night-1/lights/L_007.fits";
    fs::rename(light, held);
    CHECK(run(p.path).stacks[0].used == 9);
    fs::rename(held, light);
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used == 10);
    CHECK_FALSE(r.stacks[0].reused);
    CHECK(std::all_of(r.masters.begin(), r.masters.end(), [](const MasterReport& m) { return m.reused; }));
    // What was there before stays as a picture, of the same grid, with what it was of.
    const FormerReport former = r.stacks[0].former;
    CHECK((former.used == 9 && former.seconds == Approx(0.9 * r.stacks[0].seconds_total)));
    const auto before = open_frame(p.path / "kasane" / former.picture),
               now = open_frame(p.path / "kasane" / r.stacks[0].preview);
    CHECK((before->width() == now->width() && before->height() == now->height()));
    Image old_pixels = read_plane(*before, 0), pixels = read_plane(*now, 0);
    CHECK_FALSE(old_pixels.pixels() == pixels.pixels());
    CHECK(std::abs(static_cast<double>(median_in_place(old_pixels.pixels())) - median_in_place(pixels.pixels())) <=
          2); // of 255
    CHECK(run(p.path).stacks[0].former.picture == former.picture);
    CHECK(shell("{kasane} integrate -q --preview -C " + p.path.string()).status <= 1); // has none, and leaves it
    CHECK(fs::exists(p.path / "kasane" / former.picture));
    fs::remove(p.path / "kasane" / r.stacks[0].file);
    const RunReport again = run(p.path);
    CHECK_FALSE(again.stacks[0].reused);
    CHECK(again.stacks[0].former.used == 9); // of the same change
    CHECK(fs::exists(p.path / "kasane" / r.stacks[0].file));
}

TEST_CASE("A master light on another grid is not shown beside the former one") {
    const Copy p;
    const std::string picture = "kasane/" + run(p.path).stacks[0].former.picture;
    CHECK(picture == "kasane/");
    write_recipe(p.path, "[integration]\nrejection = \"none\"\n");
    const RunReport other = run(p.path);
    REQUIRE(fs::exists(p.path / "kasane" / other.stacks[0].former.picture));
    CHECK(other.stacks[0].former.used == other.stacks[0].used);
    write_recipe(p.path, "[canvas]\nturn = 90\n");
    CHECK(run(p.path).stacks[0].former.picture.empty());
    CHECK_FALSE(fs::exists(p.path / "kasane" / other.stacks[0].former.picture));
}

TEST_CASE("Magnitudes are told where the headers of lights know them") {
    const Copy p;
    const RunReport unknown = run(p.path);
    CHECK(unknown.stacks[0].zero_point == 0);
    for (int k = 1; k <= 10; ++k) // each of its own, as its air lets through
        rewrite(p.path / fmt::format("night-1/lights/L_{:03}.fits", k),
                [](Image&, Header& h) { h.set("MAGZERO", 22.5); });
    const StackReport known = run(p.path).stacks[0];
    std::vector<float> factors;
    for (const FrameReport& f : known.frames)
        if (f.used) factors.push_back(static_cast<float>(f.scale));
    CHECK(known.zero_point == Approx(22.5 + 2.5 * std::log10(median_in_place(factors))).margin(1e-3));
    CHECK(open_frame(p.path / "kasane" / known.file)->header().number("MAGZERO") == Approx(known.zero_point));
    // A canvas of half the scale shows a quarter of the pixels.
    write_recipe(p.path, "[canvas]\nscale = 0.5\n");
    CHECK(run(p.path).stacks[0].zero_point == Approx(known.zero_point - 2.5 * std::log10(4)).margin(2e-3));
}

TEST_CASE("Of interpolated colours the noise of large areas is told as well: there are fewer samples than pixels") {
    const Copy p;
    const StackReport mono = run(p.path).stacks[0];
    CHECK(mono.area_noise == mono.noise);
    CHECK_FALSE(open_frame(p.path / "kasane" / mono.file)->header().find("NOISELRG"));
    for (const auto& file : fs::recursive_directory_iterator(p.path))
        if (file.path().extension() == ".fits" && file.path().string().find("/kasane/") == std::string::npos)
            rewrite(file.path(), [](Image&, Header& h) { h.set("BAYERPAT", "RGGB"); });
    const StackReport colour = run(p.path).stacks[0];
    CHECK(colour.area_noise == Approx(std::sqrt(2.0) * colour.noise));
    CHECK(open_frame(p.path / "kasane" / colour.file)->header().number("NOISELRG") == Approx(colour.area_noise));
    write_recipe(p.path, "[colour]\nmethod = \"binned\"\n");
    const StackReport binned = run(p.path).stacks[0];
    CHECK(binned.area_noise == binned.noise);
}

TEST_CASE("New lights do not move the grid, even when the ledger is gone") {
    const Copy all, grown;
    const std::string best = run(all.path).stacks[0].reference;
    const fs::path held = grown.folder / "held.fits";
    fs::rename(grown.path / best, held);
    const std::string reference = run(grown.path).stacks[0].reference;
    REQUIRE(reference != best);
    fs::rename(held, grown.path / best); // a better frame arrives
    fs::remove_all(grown.path / ".kasane");
    const RunReport r = run(grown.path);
    CHECK(r.stacks[0].reference == reference);
    CHECK(r.stacks[0].used == 10);
}

TEST_CASE("A damaged file is set aside with its reason and the rest goes on") {
    const Copy p;
    fs::resize_file(p.path / "night-1/lights/L_003.fits", 50000);
    std::ofstream(p.path / "night-1/lights/notes.fits") << "seeing was fine";
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used == 9);
    CHECK_FALSE(r.clean());
    int named = 0;
    for (const Finding& f : r.findings)
        if (f.code == "file-unreadable") {
            ++named;
            CHECK((f.files[0] == "night-1/lights/L_003.fits" || f.files[0] == "night-1/lights/notes.fits"));
            CHECK(
                (f.text.find("truncated") != std::string::npos || f.text.find("not a FITS file") != std::string::npos));
        }
    CHECK(named == 2);
}

TEST_CASE("A file that shrinks during the run is set aside, and the rest goes on") {
    const Copy p;
    class Cut final : public Progress {
    public:
        explicit Cut(fs::path file) : file_(std::move(file)) {}
        void begin(const std::string& stage, std::int64_t) override {
            if (stage.rfind("integrate", 0) == 0) fs::resize_file(file_, 4000);
        }

    private:
        fs::path file_;
    } progress(p.path / "night-1/lights/L_004.fits");
    const Workers workers(2);
    const RunReport r = run_project({p.path, {}, {}}, {workers, {1ull << 30}, progress});
    CHECK(r.stacks[0].used == 9);
    CHECK_THAT(r.stacks[0].frames[3].reason, Catch::Contains("shorter") || Catch::Contains("truncated"));
    CHECK_FALSE(r.stacks[0].file.empty());
}

TEST_CASE("A dark flat field among the flats is set aside by name") {
    const Copy p;
    fs::copy_file(p.path / "darks/bias_002.fits", p.path / "night-1/flats/flat-L_099.fits");
    { // the header says flat, the pixels say that the panel was off
        std::fstream f(p.path / "night-1/flats/flat-L_099.fits", std::ios::in | std::ios::out | std::ios::binary);
        std::string head(2880, ' ');
        f.read(head.data(), 2880);
        head.replace(head.find("'Bias    '"), 10, "'Flat    '");
        const std::string filter = "FILTER  = 'L       '";
        head.replace(head.find("GAIN    ="), 80, filter + std::string(60, ' '));
        f.seekp(0);
        f.write(head.data(), 2880);
    }
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used == 10);
    CHECK(std::any_of(r.findings.begin(), r.findings.end(), [](const Finding& f) {
        return f.code == "file-set-aside" && f.files[0] == "night-1/flats/flat-L_099.fits" &&
               f.text.find("no light") != std::string::npos;
    }));
}

TEST_CASE("Header text of any bytes does no harm") {
    const Copy p;
    for (const auto& entry : fs::directory_iterator(p.path / "night-1/lights")) {
        std::fstream f(entry.path(), std::ios::in | std::ios::out | std::ios::binary);
        std::string head(5760, ' ');
        f.read(head.data(), 5760);
        const auto at = head.find("Paper Lantern Field");
        f.seekp(static_cast<std::streamoff>(at));
        f.write("Paper \xff\xc3\x28\x07ntern", 16);
    }
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used == 10);
    write_report(r);
    CHECK(fs::file_size(p.path / "kasane/report.json") > 1000);
    CHECK(run(p.path).stacks[0].reused);
}

TEST_CASE("Without flats or darks the run goes on and says so") {
    const Copy p;
    fs::remove_all(p.path / "night-1/flats");
    fs::remove_all(p.path / "darks");
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used >= 9);
    CHECK(find(r.findings, "flat-missing"));
    CHECK(find(r.findings, "dark-missing"));
    CHECK(r.masters.empty());
}

TEST_CASE("A frame that shows another sky is set aside with its reason") {
    const Copy p;
    sky::PlainOptions other = small_options();
    other.seed = 99;
    other.lights = 1;
    other.calibration = 0;
    const TemporaryFolder elsewhere;
    write_small_project(elsewhere / "x", other);
    // Same target by its header, quite other stars.
    fs::copy(elsewhere / "x/night-1/lights/L_001.fits", p.path / "night-1/lights/L_099.fits");
    const RunReport r = run(p.path);
    CHECK(r.stacks[0].used == 10);
    CHECK(r.stacks[0].dropped == 1);
    for (const FrameReport& f : r.stacks[0].frames)
        if (!f.used) CHECK_THAT(f.reason, Catch::Contains("cannot be registered"));
    CHECK_THAT(run_table(r), Catch::Contains("L_099.fits"));
}

TEST_CASE("Folders without work in them are told apart") {
    const TemporaryFolder folder;
    CHECK_THROWS_WITH(run(folder.path()), Catch::Contains("no exposures"));
    const Copy p;
    fs::remove_all(p.path / "night-1/lights");
    CHECK_THROWS_WITH(run(p.path), Catch::Contains("no lights"));
    CHECK_THROWS_WITH(run(folder / "missing"), Catch::Contains("not a folder"));
}

TEST_CASE("A damaged ledger is put aside and begun anew, a held one is respected") {
    const Copy p;
    run(p.path);
    const auto results = digests(p.path / "kasane");
    std::ofstream(p.path / ".kasane/ledger.sqlite") << "no database, just text that is long enough to be looked at";
    const RunReport r = run(p.path);
    CHECK(find(r.findings, "ledger-damaged"));
    CHECK(digests(p.path / "kasane") == results);
    const Ledger held(p.path / ".kasane");
    CHECK_THROWS_WITH(run(p.path), Catch::Contains("another run"));
}

TEST_CASE("Stopping leaves no half file, and the next run ends as if nothing had been") {
    const Copy a, b;
    class StopAt final : public Progress {
    public:
        StopAt(CancelToken cancel, int after) : cancel_(std::move(cancel)), after_(after) {}
        void advance(std::int64_t) override {
            if (++steps_ == after_) cancel_.request();
        }
        int steps() const { return steps_; }

    private:
        CancelToken cancel_;
        int after_;
        std::atomic<int> steps_{0};
    };
    StopAt undisturbed({}, 0);
    const Workers two(2);
    run_project({a.path, {}, {}}, {two, {1ull << 30}, undisturbed});
    REQUIRE(undisturbed.steps() > 40);
    for (const int part : {20, 8, 4, 3, 2}) { // each goes on where the one before was stopped
        const int after = undisturbed.steps() / part;
        const CancelToken cancel;
        const Workers workers(2, cancel);
        StopAt progress(cancel, after);
        try {
            run_project({b.path, {}, {}}, {workers, {1ull << 30}, progress});
        } catch (const Cancelled&) {
        }
    }
    run(b.path);
    CHECK(digests(b.path / "kasane") == digests(a.path / "kasane"));
}
