#include <kasane/combination/choice.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

SigmaRejection sigma(StackOf what, int frames) {
    return std::get<SigmaRejection>(choose_combination(what, frames).options.rejection);
}

} // namespace

TEST_CASE("The combination follows what is stacked and how many frames there are") {
    for (const StackOf what : {StackOf::darks, StackOf::flats}) {
        CHECK(std::holds_alternative<NoRejection>(choose_combination(what, 1).options.rejection));
        for (int n = 1; n <= 100; ++n)
            CHECK(choose_combination(what, n).options.check().empty());
        for (int n = 4; n <= 100; ++n) // more frames, limits that are no wider
            CHECK((sigma(what, n).low <= sigma(what, n - 1).low && sigma(what, n).high <= sigma(what, n - 1).high));
    }
    // Particles and stars only add to two darks or flats.
    CHECK(std::holds_alternative<PairRejection>(choose_combination(StackOf::darks, 2).options.rejection));
    CHECK(std::holds_alternative<PairRejection>(choose_combination(StackOf::flats, 2).options.rejection));
    CHECK(sigma(StackOf::darks, 4).high > sigma(StackOf::darks, 20).high);
    CHECK(sigma(StackOf::flats, 20).high < sigma(StackOf::flats, 20).low);
}

TEST_CASE("A combination says why it was chosen") {
    CHECK(choose_combination(StackOf::darks, 1).reason == "a single frame, taken as it is");
    CHECK(choose_combination(StackOf::darks, 2).reason ==
          "2 frames: mean, the lower where they disagree beyond 6 sigma");
    CHECK(choose_combination(StackOf::darks, 4).reason ==
          "4 frames: mean, rejecting beyond 4 sigma (few frames, wide limits)");
    CHECK(choose_combination(StackOf::flats, 20).reason ==
          "20 frames: mean, rejecting beyond 4 sigma below and 3 above (stars in a flat only add)");
    CHECK(combination_text({SigmaRejection{2, 0, 4}, Combination::median}, 9) ==
          "9 frames: median, rejecting beyond 2 sigma below");
    CHECK(combination_text({NoRejection{}}, 9) == "9 frames: mean");
}
