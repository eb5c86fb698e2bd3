// What headers say of a comet.
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/comet_header.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

Header with(std::initializer_list<Card> cards) {
    Header h;
    for (const Card& c : cards)
        h.add(c);
    return h;
}

} // namespace

TEST_CASE("Rates of a comet count with their unit alone, in whatever unit") {
    const auto east = [](const std::string& comment) {
        const CometHeader h = comet_in_header(with({{"RARATE", "12", comment}, {"DECRATE", "-6", comment}}));
        if (h.rate) CHECK(h.rate->north == Approx(-0.5 * h.rate->east));
        CHECK(h.rate.has_value() == h.wrong.empty());
        return h.rate ? h.rate->east : 0;
    };
    CHECK(east("[arcsec/h] towards east") == Approx(12));
    CHECK(east("[arcsec/min]") == Approx(720));
    CHECK(east("[ArcSec / s]") == Approx(43200));
    CHECK(east("[arcmin/h]") == Approx(720));
    CHECK(east("[deg/d]") == Approx(12 * 3600 / 24.0));
    for (const char* wrong : {"arcsec/h", "", "[px/h]", "[arcsec]", "[arcsec/fortnight]", "] [", "[deg/s]"})
        CHECK(east(wrong) == 0);
    CHECK_FALSE(comet_in_header(with({{"RARATE", "12", "[arcsec/h]"}})).wrong.empty()); // one alone
    CHECK(comet_in_header(Header{}).wrong.empty());
}

TEST_CASE("A pixel of a file comes back from the turned frame, however it is turned") {
    Exposure e;
    for (const int turn : {0, 90, 180, 270}) {
        INFO(turn);
        e.turn = turn;
        e.width = 40, e.height = 30;
        const Point in_file = file_pixel(e, 1, {3, 7.5}), back = turned_pixel(e, in_file);
        CHECK((back.x == 3 && back.y == 7.5));
        const bool across = turn == 90 || turn == 270; // the file's sides have changed places
        CHECK((in_file.x >= 0 && in_file.x < (across ? 30 : 40)));
        CHECK((in_file.y >= 0 && in_file.y < (across ? 40 : 30)));
    }
}

TEST_CASE("A comet's place in a header is read in degrees and in hours") {
    const auto at = [](const char* ra, const char* dec) {
        return comet_in_header(with({{"OBJCTRA", ra, "", true}, {"OBJCTDEC", dec, "", true}}));
    };
    CHECK(at("05 34 12", "-05 23 28").at->ra == Approx(83.55));
    CHECK(at("05:34:12", "-05:23:28").at->dec == Approx(-5.39111));
    CHECK(at("83.55", "-5.39111").at->ra == Approx(83.55));
    for (const CometHeader& h : {at("elsewhere", "5"), at("83", "95"), comet_in_header(with({{"OBJRA", "83"}}))}) {
        CHECK_FALSE(h.at);
        CHECK_FALSE(h.wrong.empty());
    }
    const SkyPoint after = moved({10, 60}, {3600, -1800}, 2); // a degree an hour is two of right ascension there
    CHECK(after.ra == Approx(14));
    CHECK(after.dec == Approx(59));
}
