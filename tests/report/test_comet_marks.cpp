// A comet, pointed at: from the command, and by clicks on the review page.
#include "support/comets.hpp"
#include "support/projects.hpp"
#include "support/webdriver.hpp"

#include <kasane/base/error.hpp>
#include <kasane/project/check.hpp>
#include <kasane/project/comet_marks.hpp>
#include <kasane/report/review.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>
#include <thread>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

namespace {

/// The demo's comet, that nobody has pointed at.
void write_unmarked(const fs::path& folder) {
    const Quiet quiet;
    sky::write_scenario(comet_scenario(), folder, quiet.context);
    write_recipe(folder, "# mine\n");
}
using Unmarked = CopyOf<&write_unmarked>;

} // namespace

TEST_CASE("Marks of a comet are kept in the recipe by the command, and refused with the reason") {
    Unmarked p;
    const Quiet quiet;
    RunOptions o;
    o.folder = p.path;
    const auto keep = [&](std::vector<std::string> wishes) { return keep_comet_marks(o, wishes, quiet.context); };
    CHECK(keep({"lights/L_001.fits 243 284.5"}) == std::vector<CometMark>{{"lights/L_001.fits", 243, 284.5}});
    // From elsewhere, by the name alone, in place of the former.
    CHECK(keep({(p.path / "lights/G_027.fits").string() + " 334  248", "L_001.fits 244 285"}) ==
          std::vector<CometMark>{{"lights/L_001.fits", 244, 285}, {"lights/G_027.fits", 334, 248}});
    CHECK_THAT(read_file(p.path / "kasane.toml"), Catch::StartsWith("# mine"));
    CHECK(read_recipe(p.path).comet.size() == 2);
    const std::string before = read_file(p.path / "kasane.toml");
    const auto refused = [&](const std::vector<std::string>& wishes, const char* why) {
        INFO(wishes.front());
        try {
            keep(wishes);
            FAIL("it was taken");
        } catch (const UsageError& e) {
            CHECK_THAT(e.what(), Catch::Contains(why));
        }
        CHECK(read_file(p.path / "kasane.toml") == before);
    };
    refused({"L_002.fits 3 4", "nowhere.fits 1 2"}, "no light of the project");
    refused({"flats/flat-L_001.fits 1 2"}, "no light of the project");
    refused({"lights/L_0* 1 2"}, "names 18 lights");
    refused({"L_002.fits 640 2"}, "640 x 480");
    refused({"L_002.fits 3"}, "no mark");
    refused({"3 4"}, "no mark");
    refused({"L_002.fits nan 4"}, "no mark");
    refused({"none", "L_002.fits 3 4"}, "beside it");
    CHECK(keep({"L_002.fits"}).back().by_header()); // as its header tells
    CHECK_THAT(read_file(p.path / "kasane.toml"), Catch::Contains("[\"lights/L_002.fits\"],"));
    CHECK(keep({"L_004.fits 1 2"}).size() == 4); // and it stays
    CHECK(keep({"none"}).empty());
    CHECK(read_recipe(p.path).comet.empty());
    // Where there is nothing to take out nothing is written, and nowhere is no project.
    fs::remove(p.path / "kasane.toml");
    CHECK(keep({"none"}).empty());
    CHECK_FALSE(fs::exists(p.path / "kasane.toml"));
    o.folder = p.path / "nowhere";
    CHECK_THROWS_AS(keep({"none"}), InputError);
    o.folder = p.path;
    // The command itself, and what check and status say of it.
    const std::string folder = p.path.string();
    CHECK(shell("{kasane} run -q " + folder + " --comet 'L_001.fits 243 284' --comet 'G_027.fits 334 248'").status ==
          0);
    CHECK(check_project(o, quiet.context).findings.empty());
    const StatusReport status = project_status(o, quiet.context);
    CHECK(status.all_done());
    int comets = 0;
    for (const ResultStatus& r : status.results)
        comets += r.kind == "comet" || r.kind == "comet and stars";
    CHECK(comets == 4);
    keep({"L_001.fits 240 280"});
    for (const ResultStatus& r : project_status(o, quiet.context).results)
        CHECK((r.state == ResultStatus::State::stale) == (r.kind != "master"));
    CHECK(shell("{kasane} integrate -q " + folder + " --comet 'L_001.fits 2430 284'").status == 2);
    write_recipe(p.path, "[comet]\nmarks = [[\"lights/L_001.fits\", 243, 284]]\n");
    CHECK(find(check_project(o, quiet.context).findings, "comet-mark"));
}

TEST_CASE("In the browser: a comet is pointed at on two lights, foretold on others, accepted and undone") {
    Unmarked p;
    const Quiet quiet;
    GradeOptions o;
    o.run.folder = p.path;
    ReviewServer server(o, quiet.context);
    std::thread thread([&] { server.serve(); });
    struct End {
        ReviewServer& server;
        std::thread& thread;
        ~End() {
            server.stop();
            thread.join();
        }
    } end{server, thread};
    Browser b;
    b.open(server.address());
    REQUIRE(b.wait_for("return window.kasaneState && kasaneState.S.verdicts.length > 0 && kasaneState.pictures.view"));
    // Pressed and let go where a pixel of a light lies on the screen.
    const auto click = [&](const std::string& file, Point at) {
        b.run(fmt::format("kasaneState.go(kasaneState.data().stacks[kasaneState.S.stack].frames.findIndex(f => f.file "
                          "=== '{}'))",
                          file));
        b.run(fmt::format(
            "const c = document.getElementById('picture'), r = c.getBoundingClientRect(), v = "
            "kasaneState.pictures.view; for (const name of ['pointerdown', 'pointerup']) c.dispatchEvent(new "
            "PointerEvent(name, {{clientX: r.left + r.width / 2 + ({} - v.x) * v.zoom, clientY: r.top + r.height / 2 + "
            "({} - v.y) * v.zoom, pointerId: 1, isPrimary: true}}))",
            at.x, at.y));
    };
    const std::string first = "lights/L_001.fits", last = "lights/L_026.fits", between = "lights/L_013.fits";
    click(first, comet_on(first)); // not asked to point: nothing
    CHECK(b.run("return kasaneState.comet.count()") == 0);
    b.press("m");
    click(first, comet_on(first));
    click(last, comet_on(last));
    CHECK(b.run("return kasaneState.comet.count()") == 2);
    CHECK(b.run("return document.getElementById('accept').disabled") == false);
    CHECK(read_recipe(p.path).comet.empty());
    // Where it should be on another light: nearly there, as its path is not quite straight.
    const auto foretold = b.run(fmt::format(
        "return kasaneState.comet.expected(kasaneState.data().stacks[kasaneState.S.stack].frames.find(f => f.file === "
        "'{}'))",
        between));
    const Point truth = comet_on(between);
    CHECK(std::hypot(foretold.at(0).get<double>() - truth.x, foretold.at(1).get<double>() - truth.y) < 8);
    click(between, truth);
    click(between, truth); // on the mark itself: taken away
    CHECK(b.run("return kasaneState.comet.count()") == 2);
    b.press("\xEE\x80\x87", "\xEE\x80\x89"); // Ctrl+Enter
    REQUIRE(b.wait_for("return document.getElementById('accept').disabled"));
    const std::vector<CometMark> kept = read_recipe(p.path).comet;
    REQUIRE(kept.size() == 2);
    for (const CometMark& m : kept)
        CHECK(std::hypot(m.x - comet_on(m.file).x, m.y - comet_on(m.file).y) < 1.5); // as fine as the screen shows it
    CHECK_THAT(read_file(p.path / "kasane.toml"), Catch::StartsWith("# mine"));
    CHECK_THAT(b.run("return document.getElementById('message').textContent").get<std::string>(),
               Catch::Contains("2 marks of a comet"));
    b.press("z", "\xEE\x80\x89");
    REQUIRE(b.wait_for("return kasaneState.data().undo === 0"));
    CHECK(read_file(p.path / "kasane.toml") == "# mine\n");
    CHECK(b.run("return kasaneState.comet.count()") == 0);
}
