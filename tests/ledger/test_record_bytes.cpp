// Records as bytes: back to what they were, and nothing from bytes that are none.
#include <kasane/ledger/exposure_record.hpp>
#include <kasane/stages/align_records.hpp>
#include <kasane/stages/defect_record.hpp>
#include <kasane/stages/level_records.hpp>
#include <kasane/stages/measure_record.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {

ExposureMeasures measures() {
    ExposureMeasures m;
    m.planes.resize(2);
    for (Measures& plane : m.planes) {
        plane.mesh.cell = plane.mesh.means.cell = 64;
        plane.mesh.level = plane.mesh.sigma = Image(3, 2, 1, 1.5f);
        plane.stars.resize(2);
        plane.stars[1].x = 7;
        plane.stars[1].saturated = true;
    }
    m.saturated = Image(3, 2);
    m.own.defects = DefectList(4, {{1, 2}, {3, 3}});
    m.own.rows = {1, 2, 3};
    m.streaks.resize(1);
    return m;
}

/// Everything that is shorter than it should be, and what has more behind it.
template <class Decode>
void refuses_cut(const std::string& bytes, Decode decode, bool longer = true) {
    REQUIRE(decode(bytes));
    for (std::size_t n = 0; n < bytes.size(); ++n)
        if (decode(bytes.substr(0, n))) FAIL("cut to " << n << " of " << bytes.size());
    if (longer) CHECK_FALSE(decode(bytes + '\0'));
}

} // namespace

TEST_CASE("Records of the ledger come back from their bytes, and from none that are cut short") {
    const std::string m = encode_measures(measures());
    refuses_cut(m, decode_measures);
    const auto back = decode_measures(m);
    CHECK(back->planes[1].stars[1].x == 7);
    CHECK(back->planes[1].stars[1].saturated);
    CHECK(back->own.rows == std::vector<float>{1, 2, 3});
    CHECK(back->own.defects.places() == measures().own.defects.places());
    CHECK(encode_measures(*back) == m);

    refuses_cut(encode_defects(measures().own.defects, {}), decode_defects);
    Exposure e;
    e.camera = "Lantern 16";
    e.problems = {"has no time"};
    refuses_cut(encode(e), decode_exposure);
    CHECK(decode_exposure(encode(e))->camera == "Lantern 16");
    refuses_cut(
        encode(Look{}, true), [](const std::string& b) { return decode_look(b, true); }, false);
    refuses_cut(encode(kasane::Outcome::of(Registration{})), decode_outcome);
    Solved solved{"basis", 3, {}};
    solved.rigs["rig"].lens = std::make_shared<const Lens>();
    refuses_cut(encode(solved), decode_solved);
    StackLevels levels;
    levels.maps.resize(2), levels.scales.resize(2), levels.shares.resize(2);
    refuses_cut(encode(levels), decode_levels);
}

TEST_CASE("Sizes that a record cannot have are not asked memory for") {
    // A mesh of 2^31 - 1 pixels on a side, at the place where the 3 x 2 of the true one stand.
    std::string bytes = encode_measures(measures());
    const auto at = bytes.find(std::string("\3\0\0\0\2\0\0\0", 8));
    REQUIRE(at != std::string::npos);
    bytes.replace(at, 8, std::string("\xff\xff\xff\x7f\xff\xff\xff\x7f", 8));
    CHECK_FALSE(decode_measures(bytes));
    std::string defects = encode_defects(measures().own.defects, {});
    defects.replace(8, 4, "\xff\xff\xff\xff", 4); // how many there are
    CHECK_FALSE(decode_defects(defects));
}
