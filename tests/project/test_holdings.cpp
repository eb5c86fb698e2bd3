// What is remembered beside the results, and letting go of it.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/project/holdings.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

using Copy = CopyOf<[](const fs::path& to) {
    write_small_project(to);
    run(to);
}>;

ForgetReport forget_in(const fs::path& folder, const ForgetOptions& o) {
    const Quiet quiet;
    return forget({folder, {}, {}}, o, quiet.context);
}

std::map<std::string, Holding> held(const fs::path& folder) {
    std::map<std::string, Holding> out;
    for (const Holding& h : status_of(folder).holdings)
        out[h.name] = h;
    return out;
}

} // namespace

TEST_CASE("What is remembered is told by kind and size, and previews are let go of only when that is asked for") {
    const Copy p;
    const auto before = held(p.path);
    REQUIRE(before.count("ledger"));
    REQUIRE(before.count("previews"));
    CHECK(before.at("previews").files == 10);
    CHECK(before.at("previews").bytes > 1000);
    const auto inputs = digests(p.path, {"kasane"}), results = digests(p.path / "kasane");
    const ForgetReport named = forget_in(p.path, {.previews = true});
    CHECK(named.files.size() == 10);
    CHECK_FALSE(named.removed);
    CHECK(held(p.path).at("previews").bytes == before.at("previews").bytes);
    CHECK(forget_in(p.path, {.cache = true, .remove = true}).files.empty());
    CHECK(held(p.path).at("previews").files == 10);
    const ForgetReport gone = forget_in(p.path, {.previews = true, .remove = true});
    CHECK(gone.removed);
    CHECK(gone.bytes() == before.at("previews").bytes);
    CHECK_FALSE(held(p.path).count("previews"));
    CHECK(status_of(p.path).all_done()); // nothing has to be made again
    run(p.path);
    CHECK(digests(p.path, {"kasane"}) == inputs);
    auto again = digests(p.path / "kasane"), expected = results;
    for (auto* r : {&again, &expected})
        for (const char* with_times : {"report.txt", "report.json", "report.html"})
            r->erase(with_times);
    CHECK(again == expected);
}

TEST_CASE("Results that nothing asks for any more can be let go of, those of others and what is asked for never") {
    const Copy p;
    const fs::path lights = p.path / "kasane/lights";
    fs::path light;
    for (const auto& entry : fs::directory_iterator(lights))
        if (entry.path().extension() == ".fits") light = entry.path();
    REQUIRE_FALSE(light.empty());
    CHECK(forget_in(p.path, {.results = true}).files.empty());
    for (const auto& entry : fs::recursive_directory_iterator(p.path / "night-1")) // another filter's name
        if (entry.path().filename().string().starts_with("L_"))
            rewrite(entry.path(), [](Image&, Header& h) { h.set("FILTER", "Ha"); });
    run(p.path);
    const auto leftovers = status_of(p.path).leftovers;
    const std::string mine = "lights/" + light.filename().string();
    REQUIRE(std::count(leftovers.begin(), leftovers.end(), mine) == 1); // and masters that only it needed
    const ForgetReport named = forget_in(p.path, {.results = true});
    REQUIRE(named.files.size() == 2 * leftovers.size()); // each with its preview
    CHECK(fs::exists(light));
    { // somebody keeps another file under that name
        std::ofstream(light.string(), std::ios::trunc) << "mine";
        const ForgetReport kept = forget_in(p.path, {.results = true, .remove = true});
        CHECK(fs::exists(light));
        REQUIRE(kept.files.size() == named.files.size());
        for (const ForgetReport::File& f : kept.files)
            CHECK((f.problem.find("not written by Kasane") != std::string::npos) == (f.path == light.string()));
        CHECK(status_of(p.path).leftovers == std::vector<std::string>{mine});
    }
    std::size_t masters = 0;
    for (const auto& entry : fs::directory_iterator(lights))
        masters += entry.path().extension() == ".fits";
    CHECK(masters == 2); // the new one, and what is somebody's
}

TEST_CASE("Only files that have Kasane's names go, and nothing while another run works there") {
    const Copy p;
    const fs::path memory = p.path / ".kasane";
    fs::create_directories(memory / "cache");
    std::ofstream(memory / "cache" / (std::string(32, 'a') + ".fits")) << "pixels";
    std::ofstream(memory / "cache/notes.fits") << "mine";
    std::ofstream(memory / "previews/notes.txt") << "mine";
    std::ofstream(p.path / "verdicts.toml") << "";
    fs::create_symlink(p.path / "night-1", memory / "cache/elsewhere");
    const auto inputs = digests(p.path, {"kasane"});
    CHECK(forget_in(p.path, {.cache = true}).files.size() == 1);
    {
        const Ledger running(memory);
        CHECK_THROWS_AS(forget_in(p.path, {.cache = true, .remove = true}), UsageError);
        CHECK(fs::exists(memory / "cache" / (std::string(32, 'a') + ".fits")));
    }
    forget_in(p.path, {.cache = true, .previews = true, .results = true, .remove = true});
    CHECK_FALSE(fs::exists(memory / "cache" / (std::string(32, 'a') + ".fits")));
    CHECK(fs::exists(memory / "cache/notes.fits"));
    CHECK(fs::exists(memory / "previews/notes.txt"));
    CHECK(fs::exists(memory / "ledger.sqlite"));
    CHECK(fs::exists(p.path / "verdicts.toml"));
    CHECK(digests(p.path, {"kasane"}) == inputs);
    CHECK_THROWS_AS(forget_in(p.path / "nowhere", {.cache = true}), InputError);
}

TEST_CASE("The command names what it would forget, and forgets with --yes") {
    const Copy p;
    const std::string at = " -C " + p.path.string();
    CHECK(shell("{kasane} forget" + at).status == 2); // says of what
    CHECK(shell("{kasane} forget everything" + at).status == 2);
    const auto named = shell("{kasane} forget all" + at);
    CHECK(named.status == 0);
    CHECK_THAT(named.out, Catch::Contains("10 previews") && Catch::Contains("--yes"));
    CHECK(shell("{kasane} status" + at).out.find("previews of lights") != std::string::npos);
    const auto gone = shell("{kasane} forget --yes previews cache" + at);
    CHECK(gone.status == 0);
    CHECK_THAT(gone.out, Catch::Contains("Removed"));
    CHECK_THAT(shell("{kasane} forget all" + at).out, Catch::Contains("nothing of the kind"));
}
