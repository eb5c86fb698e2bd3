#include <kasane/base/provenance.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

using Kind = Provenance::Input::Kind;

Provenance example() {
    Provenance p;
    p.step("gather").inputs = {{Kind::exposure, "a1", "night-1/a.fits", "weight 0.6"},
                               {Kind::exposure, "b2", "night-1/b.fits", "weight 0.4"}};
    p.step("calibrate").text = "with dark";
    p.step("calibrate").inputs = {{Kind::master, "k1", "dark", {}}};
    p.step("combine").set("low", "3").set("high", "3");
    return p;
}

} // namespace

TEST_CASE("A history tells the steps that have words, then the exposures, each once") {
    Provenance p = example();
    p.step("again").inputs = {{Kind::exposure, "a1", "night-1/a.fits", {}}};
    CHECK(p.history() == std::vector<std::string>{"calibrate: with dark", "from night-1/a.fits weight 0.6",
                                                  "from night-1/b.fits weight 0.4"});
    REQUIRE(p.inputs_of(Kind::master).size() == 1);
    CHECK(p.inputs_of(Kind::master)[0].name == "dark");
    CHECK(p.find("polish") == nullptr);
}

TEST_CASE("Merging keeps the order of steps, adds what is new, and replaces what is said anew") {
    Provenance p = example(), later;
    later.step("combine").text = "2 frames: mean";
    later.step("combine").set("low", "4").set("iterations", "4");
    later.step("finish").text = "turned";
    p.merge(later);
    REQUIRE(p.steps.size() == 4);
    CHECK(p.steps[2].name == "combine");
    CHECK(p.steps[2].settings ==
          std::vector<std::pair<std::string, std::string>>{{"low", "4"}, {"high", "3"}, {"iterations", "4"}});
    CHECK(p.steps[1].text == "with dark");
    CHECK(p.steps[3].text == "turned");
}

TEST_CASE("Inputs are called what they are called now") {
    Provenance p = example();
    p.rename_inputs([](const std::string& identity) { return identity == "b2" ? std::string("new/b.fits") : ""; });
    CHECK(p.steps[0].inputs[0].name == "night-1/a.fits");
    CHECK(p.steps[0].inputs[1].name == "new/b.fits");
}
