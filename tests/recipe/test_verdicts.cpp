#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/grading/limits.hpp>
#include <kasane/recipe/edit.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/recipe/verdicts.hpp>

#include <catch2/catch.hpp>
#include <fstream>

using namespace kasane;
using namespace kasane::test;

namespace {

Exposure light(const std::string& path, const std::string& content) {
    Exposure e;
    e.path = path;
    e.fingerprint = content;
    return e;
}

void refused(const std::string& text, const std::string& place, const std::string& part) {
    INFO(text);
    try {
        VerdictFile::parse(text);
        FAIL("was read");
    } catch (const UsageError& e) {
        CHECK_THAT(std::string(e.what()), Catch::Contains(place) && Catch::Contains(part));
    }
}

const char* kByHand = R"(# my own words

[[verdict]]
file = "night-2/L_0*"   # the tree
verdict = "drop"

[[verdict]]
file = "night-2/L_003.fits"
verdict = "keep"
note = "the tree had gone"
# and a last word
)";

} // namespace

TEST_CASE("Verdicts by hand: globs, paths, content, later ones win") {
    const VerdictFile v = VerdictFile::parse(kByHand);
    CHECK_FALSE(v.decision(light("night-2/L_001.fits", "a"))->keep);
    CHECK(v.decision(light("night-2/L_003.fits", "b"))->keep);
    CHECK(v.decision(light("night-2/L_003.fits", "b"))->note == "the tree had gone");
    CHECK_FALSE(v.decision(light("night-1/L_001.fits", "c")));
    const VerdictFile moved =
        VerdictFile::parse("[[verdict]]\nfile = \"a.fits\"\nverdict = \"drop\"\ncontent = \"77\"\n");
    CHECK(moved.decision(light("elsewhere/b.fits", "77")));
    CHECK_FALSE(moved.decision(light("a.fits", "78"))); // another exposure under the old name
    CHECK(moved.unused({light("a.fits", "78")}).size() == 1);
    CHECK(moved.unused({light("b.fits", "77")}).empty());
}

TEST_CASE("What is wrong in verdicts.toml is told with line and column") {
    refused("[[verdict]]\nfile = \"a\nverdict = \"keep\"\n", "line 2", "");
    refused("[[verdict]]\nfile = \"a\"\nverdict = \"perhaps\"\n", "line 3, column 11", "perhaps");
    refused("[[verdict]]\nfile = \"a\"\n", "line 1", "no verdict");
    refused("[[verdict]]\nverdict = \"keep\"\n", "line 1", "which file");
    refused("[[verdict]]\nfile = \"a\"\nverdict = \"keep\"\nwhy = 3\n", "line 4", "why");
    refused("[verdict]\nfile = \"a\"\n", "line 1", "[[verdict]]");
    refused("keep = [\"a\"]\n", "line 1", "keep");
    refused("[[verdict]]\nfile = 3\nverdict = \"keep\"\n", "line 2", "quotes");
}

TEST_CASE("A change touches only its entries, comments and others stay") {
    const VerdictFile v = VerdictFile::parse(kByHand);
    // Another word for one file: its own entry goes, the glob and the comments stay.
    const std::string one = v.with({{"night-2/L_003.fits", "b", Decision{false, ""}}});
    CHECK_THAT(one, Catch::Contains("# my own words") && Catch::Contains("# and a last word") &&
                        Catch::Contains("night-2/L_0*") && !Catch::Contains("the tree had gone"));
    CHECK_FALSE(VerdictFile::parse(one).decision(light("night-2/L_003.fits", "b"))->keep);
    // Back to automatic where a glob covers it.
    const std::string two = v.with({{"night-2/L_001.fits", "a", std::nullopt}});
    CHECK_FALSE(VerdictFile::parse(two).decision(light("night-2/L_001.fits", "a")));
    CHECK_FALSE(VerdictFile::parse(two).decision(light("night-2/L_002.fits", "x"))->keep);
    // There and back again leaves nothing behind.
    const std::string three = VerdictFile::parse("").with({{"q \"x\".fits", "9", Decision{false, "wind\nand rain"}}});
    CHECK(VerdictFile::parse(three).decision(light("q \"x\".fits", "9")));
    const std::string four = VerdictFile::parse(three).with({{"q \"x\".fits", "9", std::nullopt}});
    CHECK_FALSE(VerdictFile::parse(four).decision(light("q \"x\".fits", "9")));
    CHECK_THAT(four, !Catch::Contains("[[verdict]]"));
}

TEST_CASE("A broken file is never written over") {
    const TemporaryFolder folder;
    const std::string broken = "[[verdict]]\nfile = \"a.fits\nverdict = \"drop\"\n";
    std::ofstream(verdict_file(folder.path())) << broken;
    CHECK_THROWS_AS(save_verdicts(folder.path(), {{"b.fits", "1", Decision{}}}), UsageError);
    CHECK(read_file(verdict_file(folder.path())) == broken);
}

TEST_CASE("Limits are written into a recipe that keeps everything else") {
    const std::vector<std::string> mine = {"fwhm > 1.3 x median", "best 90 % by worth"};
    CHECK(parse_recipe(recipe_with_limits("", mine)).grading.limits == mine);
    const std::string text =
        "# mine\n[project]\noutput = \"out\" # here\n\n[grading] # limits\nthreshold = 6\n\n[cache]\nsize = \"5G\"\n";
    const std::string with = recipe_with_limits(text, mine);
    CHECK(parse_recipe(with).grading.limits == mine);
    CHECK(parse_recipe(with).grading.detect.threshold == 6);
    for (const char* part : {"# mine", "# here", "[grading] # limits", "size = \"5G\""})
        CHECK_THAT(with, Catch::Contains(part));
    const std::string again = recipe_with_limits(with, {"stars < 9"});
    CHECK(parse_recipe(again).grading.limits == std::vector<std::string>{"stars < 9"});
    CHECK(recipe_with_limits(again, mine) == with);
    const std::string awkward = "[grading]\nlimits = [ # \"]\"\n  'fwhm > 3 px', \"stars < 5\", # x ]\n]\narea = 4\n";
    CHECK(parse_recipe(recipe_with_limits(awkward, mine)).grading.detect.area == 4);
    auto standard = parse_recipe("").grading.limits;
    standard.push_back("fwhm > 9 px");
    CHECK_THAT(recipe_with_limits("", standard), Catch::Contains("\"standard\"") && !Catch::Contains("transparency"));
    CHECK(parse_recipe(recipe_with_limits("", {})).grading.limits.empty());
    CHECK_THROWS_AS(parse_recipe("[grading]\nlimits = [\"fwhm >\"]\n"), UsageError);
    CHECK_THROWS_AS(recipe_with_limits("[grading\n", mine), UsageError);
}
