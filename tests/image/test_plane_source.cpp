#include "support/support.hpp"

#include <kasane/image/plane_source.hpp>
#include <kasane/image/region_text.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <map>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("A quality plane tells what was marked, by rows, and nothing else") {
    QualityPlane q;
    sky::Random random(5);
    for (const auto& [width, height] : {std::pair{1, 1}, {7, 3}, {8, 8}, {61, 40}, {16, 2}, {200, 3}}) {
        q.clear(width, height); // whatever was there before
        CHECK(!q.any());
        std::map<std::pair<int, int>, quality::Bits> expected; // by (y, x)
        for (int k = 0; k < 20; ++k) {
            const int x = static_cast<int>(random.uniform(0, width)), y = static_cast<int>(random.uniform(0, height));
            const auto bits = k % 2 ? quality::kRepaired : quality::kStreak;
            q.mark(x, y, bits);
            expected[{y, x}] |= bits;
        }
        CHECK(q.any());
        std::vector<std::pair<std::pair<int, int>, quality::Bits>> found;
        q.for_each([&](int x, int y, quality::Bits bits) {
            found.push_back({{y, x}, bits});
            CHECK(q.at(x, y) == bits);
        });
        CHECK(found == std::vector<std::pair<std::pair<int, int>, quality::Bits>>(expected.begin(), expected.end()));
    }
}

TEST_CASE("An image in memory is a source of its planes") {
    Image image(30, 700, 3);
    add_noise(image, 1, 2);
    const ImagePlanes source(image, "a.fits");
    CHECK((source.planes() == 3 && source.width() == 30 && source.height() == 700 && source.path() == "a.fits"));
    CHECK(read_planes(source).pixels() == image.pixels()); // over several bands
    const Region r{4, 250, 20, 300};
    const Image part = read_planes(source, r);
    int differing = 0;
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < r.height; ++y)
            for (int x = 0; x < r.width; ++x)
                differing += part(x, y, p) != image(r.x + x, r.y + y, p);
    CHECK(differing == 0);
    CHECK(source.white_noise({}).empty());
}

TEST_CASE("A rectangle is written as four numbers") {
    CHECK(parse_region("1000 800 2000 1500") == Region{1000, 800, 2000, 1500});
    CHECK(region_text({2210, 0, 1, 4176}) == "2210 0 1 4176");
    CHECK(parse_region(region_text({3, 4, 5, 6})) == Region{3, 4, 5, 6});
    for (const char* wrong : {"", "1 2 3", "1 2 3 4 5", "1 2 3 x", "-1 0 4 4", "0 0 0 4", "0 0 4 2000000", "a b c d"})
        CHECK_FALSE(parse_region(wrong));
}
