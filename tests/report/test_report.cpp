#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/show.hpp>
#include <kasane/report/tables.hpp>

#include <catch2/catch.hpp>
#include <limits>

using namespace kasane;
using namespace kasane::test;

namespace {

RunReport two_stacks() {
    RunReport r;
    r.output = "p/kasane";
    r.time = 75;
    MasterReport dark;
    dark.name = "dark-180s";
    dark.role = "dark";
    dark.frames = 12;
    dark.level = 505;
    dark.frame_noise = 3.15;
    MasterReport flat = dark;
    flat.name = "flat-L";
    flat.role = "flat";
    flat.frame_noise = 0.0066;
    flat.offset = "bias";
    flat.reused = true;
    r.masters = {dark, flat};
    StackReport s;
    s.name = "Lantern-L";
    s.used = 2;
    s.dropped = 1;
    s.seconds_total = 3660;
    s.seconds_effective = 1800;
    s.noise = 8.05;
    s.fwhm = 2.9;
    s.rejected_high = 0.0034;
    s.reference = "a.fits";
    FrameReport a, b, c;
    a.path = "a.fits";
    b.path = "b.fits";
    c.path = "c.fits";
    a.used = b.used = true;
    b.rotation = -179.3;
    b.shift_x = 3;
    b.shift_y = 4;
    b.rms = 0.12;
    c.reason = "only 3 stars; at least 6 are needed";
    s.frames = {a, b, c};
    r.stacks = {s};
    return r;
}

} // namespace

TEST_CASE("Durations read as people say them") {
    CHECK(duration_text(4.24) == "4.2 s");
    CHECK(duration_text(59) == "59 s");
    CHECK(duration_text(60) == "1 min");
    CHECK(duration_text(125) == "2 min 05 s");
    CHECK(duration_text(3660) == "1 h 01 min");
}

TEST_CASE("Columns line up, numbers to the right, and header text cannot steer the terminal") {
    Table t({"name", "count"});
    t.add({"a", "5"});
    t.add({"long\033[31mname", "1234"});
    const std::string text = t.text();
    CHECK(text == "  name           count\n  a                  5\n  long?[31mname   1234\n");
    CHECK(Table({"x"}).empty());
    Table signs({"change"});
    signs.add({"+0.5 %"});
    signs.add({"-12.0 %"});
    CHECK(signs.text() == "   change\n   +0.5 %\n  -12.0 %\n");
}

TEST_CASE("The report of a run tells what was made, what was left out and why") {
    const std::string text = run_table(two_stacks());
    for (const char* part :
         {"dark-180s", "0.66 %", "bias", "kept", "Lantern-L", "1 h 01 min", "30 min", "2.90 px", "0.34 %", "c.fits",
          "only 3 stars", "-179.3 to 0.0 deg", "5.0 px", "0.120 px", "Results are in p/kasane", "1 min 15 s"})
        CHECK_THAT(text, Catch::Contains(part));
}

TEST_CASE("A run is clean when nothing was dropped or found wanting") {
    RunReport r = two_stacks();
    CHECK_FALSE(r.clean());
    r.stacks[0].dropped = 0;
    CHECK(r.clean());
    r.findings.push_back({Level::note, "ledger-damaged", {}, "it was", ""});
    CHECK(r.clean());
    r.findings.push_back({Level::warning, "flat-missing", {"a.fits"}, "no flat", "Take flats"});
    CHECK_FALSE(r.clean());
}

TEST_CASE("A report survives JSON") {
    const RunReport r = two_stacks();
    const auto json = nlohmann::json::parse(json_text(to_json(r)));
    const auto back = json.at("stacks").at(0).get<StackReport>();
    CHECK(back.frames[1].shift_y == 4);
    CHECK(back.name == "Lantern-L");
    CHECK(json.at("masters").at(1).get<MasterReport>().offset == "bias");
}

TEST_CASE("Findings name the first file, count the others and end with the remedy") {
    const std::string text =
        findings_text({{Level::warning, "x", {"a.fits", "b.fits", "c\x1b.fits"}, "have no flat", "Take flats"}});
    CHECK_THAT(text, Catch::Contains("warning  a.fits and 2 more: have no flat. Take flats."));
}

TEST_CASE("One image is described by its header, its levels and its stars") {
    Image image(200, 150, 1, 800.0f);
    add_noise(image, 6, 3);
    for (int i = 0; i < 8; ++i)
        add_gaussian_star(image, 25 + 20 * i, 30 + 12 * i, 30000, 3);
    image(0, 0) = std::numeric_limits<float>::quiet_NaN();
    Header h;
    h.set("IMAGETYP", "Light");
    h.set("EXPTIME", 60.0);
    h.set("FILTER", "Luminance");
    h.set("FOCALLEN", 500.0);
    h.set("XPIXSZ", 4.0);
    const MemoryFrame frame(image, h);
    const ShowReport r = examine(frame, {Format::fits, h, 200, 150, 1, -32, true});
    CHECK(r.stars == 8);
    CHECK(r.fwhm == Approx(3.07).epsilon(0.05));
    CHECK(r.planes[0].noise == Approx(6).epsilon(0.05));
    CHECK(r.planes[0].median == Approx(800).margin(1));
    CHECK(r.planes[0].no_data == Approx(1.0 / 30000));
    const std::string text = show_text(r);
    for (const char* part :
         {"light (header IMAGETYP = Light)", "filter L", "exposure 60 s", "1.65 arcsec/pixel", "8 stars"})
        CHECK_THAT(text, Catch::Contains(part));
    CHECK(to_json(r).at("stars") == 8);
    CHECK(render_preview(frame).width() == 200);
}

TEST_CASE("A colour image is previewed in colour") {
    CHECK(render_preview(MemoryFrame(Image(40, 30, 3, 5.0f))).planes() == 3);
}
