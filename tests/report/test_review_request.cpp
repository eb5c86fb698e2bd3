// What the review page sends: read whole, or refused.
#include <kasane/base/error.hpp>
#include <kasane/report/review_request.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

TEST_CASE("A request of the review page is read whole") {
    const ReviewRequest r = parse_review_request(
        R"({"generation": 2, "decisions": [{"stack": 0, "frame": 3, "verdict": "drop", "note": "a car"},
            {"stack": 1, "frame": 0, "verdict": "keep"}, {"stack": 1, "frame": 2, "verdict": "auto"}],
            "limits": ["fwhm > 3 px"], "reference": {"stack": 0, "frame": 1},
            "comet": [{"stack": 0, "frame": 2, "at": [312.5, 204]}, {"stack": 0, "frame": 4, "at": null}]})");
    CHECK(r.generation == 2);
    REQUIRE(r.verdicts.size() == 3);
    CHECK(r.verdicts[0].of.frame == 3);
    REQUIRE(r.verdicts[0].decision);
    CHECK_FALSE(r.verdicts[0].decision->keep);
    CHECK(r.verdicts[0].decision->note == "a car");
    CHECK(r.verdicts[1].decision->keep);
    CHECK_FALSE(r.verdicts[2].decision);
    CHECK(r.limits == std::vector<std::string>{"fwhm > 3 px"});
    REQUIRE(r.reference);
    CHECK(r.reference->frame == 1);
    REQUIRE(r.comet.size() == 2);
    CHECK(r.comet[0].place->x == 312.5);
    CHECK(r.comet[0].place->y == 204);
    CHECK_FALSE(r.comet[1].place);
    const ReviewRequest least = parse_review_request(R"({"decisions": [], "limits": null})");
    CHECK_FALSE(least.generation);
    CHECK_FALSE(least.limits);
    CHECK_FALSE(least.reference);
    CHECK(least.comet.empty());
}

TEST_CASE("What no page sends is refused") {
    const char* text = GENERATE(
        "", "[]", "7", "null", R"("x")", R"({"decisions": []})", R"({"limits": null})",
        R"({"decisions": {"stack": 0}, "limits": null})",
        R"({"decisions": [{"stack": -1, "frame": 0, "verdict": "drop"}], "limits": null})",
        R"({"decisions": [{"stack": 0.5, "frame": 0, "verdict": "drop"}], "limits": null})",
        R"({"decisions": [{"stack": "0", "frame": 0, "verdict": "drop"}], "limits": null})",
        R"({"decisions": [{"stack": 0, "frame": 0, "verdict": "maybe"}], "limits": null})",
        R"({"decisions": [{"stack": 0, "frame": 0, "verdict": "drop", "note": 7}], "limits": null})",
        R"({"decisions": [], "limits": "fwhm > 3 px"})", R"({"decisions": [], "limits": null, "generation": "2"})",
        R"({"decisions": [], "limits": null, "reference": 3})",
        R"({"decisions": [], "limits": null, "comet": [{"stack": 0, "frame": 0}]})",
        R"({"decisions": [], "limits": null, "comet": [{"stack": 0, "frame": 0, "at": [1]}]})",
        "{\"decisions\": [], \"limits\": [\"\xff\"]}");
    CAPTURE(text);
    CHECK_THROWS_AS(parse_review_request(text), UsageError);
}
