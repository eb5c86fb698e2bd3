#include <kasane/base/error.hpp>
#include <kasane/grading/judge.hpp>

#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace kasane;

namespace {

/// Exposures with these values of one measure, all of one night.
struct Stack {
    std::vector<Figures> figures;
    std::vector<Candidature> all;
    Stack(Measure m, const std::vector<double>& values, const std::string& filter = "L") {
        figures.resize(values.size());
        for (std::size_t i = 0; i < values.size(); ++i)
            figures[i][m] = values[i];
        for (const Figures& f : figures)
            all.push_back({&f, "2031-03-12", filter, "", std::nullopt});
    }
    std::string kept(const std::vector<std::string>& limits) const {
        std::vector<Limit> parsed;
        for (const std::string& l : limits)
            parsed.push_back(parse_limit(l));
        std::string out;
        for (const Verdict& v : judge(all, parsed))
            out += v.keep ? '+' : '-';
        return out;
    }
};

} // namespace

TEST_CASE("A limit that is read and written again stays what it is") {
    for (const char* text :
         {"fwhm > 4.5 px", "fwhm > 1.4 x night median", "stars < median - 3 spread", "stars < 0.5 x best",
          "sky > 2 x night median and worth < 0.7", "best 80 % by worth for Ha, O3", "best 20 by fwhm on 2031-03-12",
          "eccentricity >= 0.6 for L on 2031-03-15", "stars < 9 for Narrow band 7 nm, O3 on 2031-03-15", "dx > -12 px",
          "transparency < 0.4"})
        CHECK(limit_text(parse_limit(text)) == text);
    for (const std::string& text : standard_limits())
        CHECK_NOTHROW(parse_limit(text));
    CHECK(limit_text(parse_limit("fwhm>1.4x median")) == "fwhm > 1.4 x median");
    CHECK(limit_text(parse_limit("obstructed > 20 %")) == "obstructed > 0.2");
    CHECK(limit_text(parse_limit("fwhm > stack median + 2 x spread")) == "fwhm > median + 2 spread");
}

TEST_CASE("Limits that make no sense are refused where they stop making sense") {
    const std::pair<const char*, const char*> wrong[] = {{"fwmh > 3", "'fwmh' (column 1)"},
                                                         {"fwhm", "its end"},
                                                         {"fwhm > ", "its end"},
                                                         {"fwhm > 1.4 x", "'median' or 'best'"},
                                                         {"fwhm > 3 arcmin", "'arcmin'"},
                                                         {"best 120 % by worth", "at most 100"},
                                                         {"best by worth", "'by' (column 6)"},
                                                         {"best 5 by angle", "is better"},
                                                         {"fwhm > 3 and", "a measure"},
                                                         {"fwhm > median + x", "spreads"},
                                                         {"", "its end"},
                                                         {"fwhm > 3 on", "a night"},
                                                         {"fwhm > 3 for , L", "a filter"}};
    for (const auto& [text, part] : wrong) {
        INFO(text);
        try {
            parse_limit(text);
            FAIL("was read");
        } catch (const UsageError& e) {
            CHECK_THAT(std::string(e.what()), Catch::Contains(part));
        }
    }
}

TEST_CASE("Bounds follow the stack and the night") {
    const Stack s(Measure::fwhm, {3.0, 3.1, 2.9, 3.0, 4.4, 3.05, 2.95, 6.0});
    CHECK(s.kept({"fwhm > 4 px"}) == "++++-++-");
    CHECK(s.kept({"fwhm > 1.4 x median"}) == "++++-++-");
    CHECK(s.kept({"fwhm > 1.4 x median for Ha"}) == "++++++++");
    CHECK(s.kept({"fwhm > 1.4 x median on 2031-03-13"}) == "++++++++");
    CHECK(s.kept({"fwhm > 4 px and stars < 10"}) == "++++++++"); // unknown values meet no condition
    CHECK(s.kept({"best 3 by fwhm"}) == "+-+---+-");
    CHECK(s.kept({"best 50 % by fwhm", "fwhm < 2.92"}) == "+--+-++-"); // of the seven that are left, four
}

TEST_CASE("A night of few is held against its stack, one of many against itself") {
    Stack s(Measure::sky, {1, 1, 1, 1, 5, 5, 5, 5, 5, 9});
    for (std::size_t i = 4; i < 9; ++i)
        s.all[i].night = "2031-03-13"; // the moon
    s.all[9].night = "2031-03-14";
    CHECK(s.kept({"sky > 1.7 x night median"}) == "+++++++++-");
    CHECK(s.kept({"sky > 1.7 x best"}) == "++++------");
}

TEST_CASE("A person stands over limits, and nobody over what cannot be registered") {
    Stack s(Measure::fwhm, {3, 3, 8, 3, 3});
    s.all[2].person = Decision{true, "the only one with the comet"};
    s.all[0].person = Decision{false, ""};
    s.all[4].person = Decision{true, ""};
    s.all[4].hindrance = "cannot be registered";
    const auto v = judge(s.all, {parse_limit("fwhm > 1.5 x median")});
    CHECK(v[2].keep);
    CHECK(v[2].author == Author::person);
    CHECK_THAT(v[2].reason, Catch::Contains("comet") && Catch::Contains("although fwhm 8.00 px is above 4.50"));
    CHECK(v[2].limits == std::vector<int>{0});
    CHECK_FALSE(v[0].keep);
    CHECK_FALSE(v[4].keep);
    CHECK(v[4].author == Author::impossible);
    CHECK(v[1].author == Author::nobody);
}

TEST_CASE("Limits of absurd numbers are written as they are read") {
    for (const char* text : {"sky > 187 x night median + 40000000000000000 spread", "stars < 12345678",
                             "worth < 0.0000012", "fwhm > 1.4 x night median"}) {
        const Limit limit = parse_limit(text);
        CHECK(limit_text(parse_limit(limit_text(limit))) == limit_text(limit));
    }
    CHECK(limit_text(parse_limit("stars < 12345678")) == "stars < 12345678");
}

TEST_CASE("Exposures are held against those of their own length") {
    // Six long ones that show 100 stars, three short ones that show 20, 22 and 5.
    std::vector<Figures> figures(9);
    std::vector<Candidature> stack;
    const std::vector<double> stars = {100, 104, 97, 101, 99, 20, 20, 22, 5};
    for (std::size_t k = 0; k < figures.size(); ++k) {
        figures[k][Measure::stars] = stars[k];
        stack.push_back({&figures[k], "2031-03-12", "L", "", std::nullopt, k < 6 ? 0 : 1});
    }
    const std::vector<Verdict> apart = judge(stack, {parse_limit("stars < 0.3 x median")});
    for (std::size_t k = 0; k < stack.size(); ++k)
        CHECK(apart[k].keep == (k != 5 && k != 8));
    // Ranked, each length keeps its best.
    const std::vector<Verdict> ranked = judge(stack, {parse_limit("best 50 % by stars")});
    CHECK(std::count_if(ranked.begin(), ranked.begin() + 6, [](const Verdict& v) { return v.keep; }) == 3);
    CHECK(std::count_if(ranked.begin() + 6, ranked.end(), [](const Verdict& v) { return v.keep; }) == 2);
    CHECK(ranked[7].keep);
}

TEST_CASE("Equal values, one exposure and none are no trouble") {
    CHECK(Stack(Measure::fwhm, {3, 3, 3, 3}).kept({"fwhm > median + 3 spread", "fwhm < median - 3 spread"}) == "++++");
    CHECK(Stack(Measure::fwhm, {3}).kept(standard_limits()) == "+");
    CHECK(Stack(Measure::fwhm, {}).kept(standard_limits()).empty());
    const double unknown = std::numeric_limits<double>::quiet_NaN();
    CHECK(Stack(Measure::fwhm, {unknown, unknown}).kept(standard_limits()) == "++");
}
