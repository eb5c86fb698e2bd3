#include <kasane/ledger/basis.hpp>
#include <kasane/ledger/record_json.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

using Kind = Provenance::Input::Kind;
using Lines = std::vector<std::string>;

Provenance planned() {
    Provenance p;
    p.step("gather").set("name", "M-1");
    p.step("gather").inputs = {{Kind::exposure, "a1", "a.fits", {}}, {Kind::exposure, "b2", "b.fits", {}}};
    p.step("calibrate").inputs = {{Kind::master, "k1", "dark", {}}};
    p.step("register").set("reference", "a1");
    return p;
}

/// What has changed from the example to what `alter` makes of it.
template <class F>
Lines changes(F alter) {
    const std::string before = Basis("stack", planned()).text();
    Provenance p = planned();
    alter(p);
    return Basis("stack", p).changes_since(before);
}

} // namespace

TEST_CASE("A basis has the key of its settings and inputs, wherever the files lie and whatever came of them") {
    const std::string key = Basis("stack", planned()).key();
    Provenance moved = planned();
    moved.step("gather").inputs[0].name = "elsewhere/a.fits";
    moved.step("gather").inputs[0].note = "weight 0.5";
    moved.step("combine").text = "mean";
    CHECK(Basis("stack", moved).key() == key);
    CHECK(Basis("master", planned()).key() != key);
    for (const auto& alter :
         std::vector<void (*)(Provenance&)>{[](Provenance& p) { p.step("gather").set("name", "M-2"); },
                                            [](Provenance& p) { p.step("gather").inputs[0].identity = "a2"; },
                                            [](Provenance& p) { p.step("gather").inputs.pop_back(); },
                                            [](Provenance& p) { p.step("calibrate").inputs[0].identity = "k2"; },
                                            [](Provenance& p) { p.step("calibrate").inputs[0].name = "flat"; },
                                            [](Provenance& p) { p.step("level").set("shape", "plane"); }}) {
        Provenance other = planned();
        alter(other);
        CHECK(Basis("stack", other).key() != key);
    }
}

TEST_CASE("What has changed since is told in words") {
    CHECK(changes([](Provenance&) {}).empty());
    CHECK(changes([](Provenance& p) {
              p.step("gather").inputs.push_back({Kind::exposure, "c", "c.fits", {}});
          }) == Lines{"c.fits is new"});
    CHECK(changes([](Provenance& p) { p.step("gather").inputs.pop_back(); }) == Lines{"b.fits is gone"});
    CHECK(changes([](Provenance& p) { p.step("gather").inputs[1].identity = "b3"; }) == Lines{"b.fits is changed"});
    CHECK(changes([](Provenance& p) { p.step("calibrate").inputs[0].identity = "k2"; }) == Lines{"dark is another"});
    CHECK(changes([](Provenance& p) { p.step("calibrate").inputs.clear(); }) == Lines{"dark is no longer used"});
    CHECK(changes([](Provenance& p) {
              p.step("calibrate").inputs.push_back({Kind::master, "f", "flat", {}});
          }) == Lines{"flat is now used"});
    CHECK(changes([](Provenance& p) { p.step("register").set("reference", "b2"); }) ==
          Lines{"the registration reference is another"});
    CHECK(Basis("stack", planned()).changes_since("nonsense") == Lines{"what it was made from is not known any more"});
}

TEST_CASE("What a former version called the offset of a flat is the master that it is now") {
    std::string former = Basis("master", planned()).text();
    former.replace(former.find("master dark"), 11, "offset dark");
    CHECK(Basis("master", planned()).changes_since(former).empty());
}

TEST_CASE("A provenance comes back from JSON as it was") {
    Provenance p = planned();
    p.step("combine").text = "mean";
    const Provenance again = nlohmann::json::parse(nlohmann::json(p).dump()).get<Provenance>();
    CHECK(nlohmann::json(again) == nlohmann::json(p));
    CHECK(again.history() == p.history());
    CHECK(Basis("stack", again).key() == Basis("stack", p).key());
}
