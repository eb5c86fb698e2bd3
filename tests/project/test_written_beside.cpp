// A master light is written while the next stack is made: nobody can tell by the results.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/project/run.hpp>

#include <catch2/catch.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// Three filters of one target.
using Copy = CopyOf<[](const fs::path& to) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 5;
    o.dither = 4;
    o.seed = 5; // the same sky
    for (const char* filter : {"B", "L", "R"}) {
        o.filter = filter;
        sky::write_scenario(sky::plain_scenario(o), to, quiet.context);
        o.calibration = 6; // of all, one set of darks and bias
    }
}>;

constexpr std::uint64_t kPlenty = 1ull << 30;

RunReport run_with(const fs::path& folder, const Workers& workers, Progress& progress, std::uint64_t memory = kPlenty) {
    return run_project({folder, {}, {}}, {workers, {memory}, progress});
}

/// What an undisturbed run makes, on one thread.
const std::map<std::string, std::string>& undisturbed() {
    static const Copy p;
    static const auto results = [] {
        run(p.path, 1);
        return digests(p.path / "kasane");
    }();
    return results;
}

/// In the order in which they are made.
std::vector<std::string> stacks_of(const Copy& p) {
    std::vector<std::string> names;
    for (const StackReport& s : run(p.path).stacks)
        names.push_back(s.name);
    REQUIRE(names.size() == 3);
    return names;
}

const std::vector<std::string>& names() {
    static const Copy p;
    static const std::vector<std::string> all = stacks_of(p);
    return all;
}

bool any_part_in(const fs::path& folder) {
    for (const auto& entry : fs::recursive_directory_iterator(folder))
        if (entry.path().filename().string().starts_with(".kasane-part-")) return true;
    return false;
}

} // namespace

TEST_CASE("Results are the same whether a master light is written beside the next or before it") {
    const auto [threads, memory] =
        GENERATE(std::pair{2, kPlenty}, std::pair{5, kPlenty}, std::pair{2, std::uint64_t{12} << 20});
    const Copy p;
    Progress silent;
    const RunReport report = run_with(p.path, Workers(threads), silent, memory);
    REQUIRE(report.stacks.size() == 3);
    for (const StackReport& s : report.stacks)
        CHECK(s.time > 0);
    CHECK(digests(p.path / "kasane") == undisturbed());
    CHECK(status_of(p.path).all_done());
}

TEST_CASE("A master light that cannot be written while the next is made ends the run, and the next run makes it") {
    const Copy p;
    const fs::path file = p.path / "kasane/lights" / (names()[0] + ".fits");
    Meddler meddler;
    meddler.at["integrate " + names()[0]] = [&] { fs::create_directories(file / "in the way"); };
    try {
        run_with(p.path, Workers(2), meddler);
        FAIL("a folder lies where the file is to be");
    } catch (const UsageError& e) {
        CHECK(e.file() == file);
    }
    CHECK(meddler.totals.count("integrate " + names()[1]) == 1); // it was under way
    CHECK_FALSE(any_part_in(p.path));
    CHECK_FALSE(status_of(p.path).all_done());
    fs::remove_all(file);
    run(p.path);
    CHECK(digests(p.path / "kasane") == undisturbed());
}

TEST_CASE("What was written when the next stack was stopped is there, and is not made again") {
    const Copy p;
    const CancelToken cancel;
    Meddler meddler;
    meddler.at["integrate " + names()[2]] = [&] { cancel.request(); };
    CHECK_THROWS_AS(run_with(p.path, Workers(2, cancel), meddler), Cancelled);
    CHECK_FALSE(any_part_in(p.path));
    const RunReport after = run(p.path);
    REQUIRE(after.stacks.size() == 3);
    CHECK(after.stacks[0].reused);
    CHECK_FALSE(after.stacks[2].reused);
    CHECK(digests(p.path / "kasane") == undisturbed());
}
