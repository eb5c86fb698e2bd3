#include "support/unsteady_frame.hpp"

#include <kasane/grading/small_frame.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/io/watched_frame.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <thread>

using namespace kasane;
using namespace kasane::test;

namespace {

std::shared_ptr<UnsteadyFrame> counted(int width, int height, int planes = 1) {
    sky::Random random(11);
    Image image(width, height, planes);
    for (float& v : image.pixels())
        v = static_cast<float>(1000 + 30 * random.normal());
    return std::make_shared<UnsteadyFrame>(std::move(image));
}

std::shared_ptr<const FrameView> view_of(std::shared_ptr<const FrameReader> raw, const std::string& cfa = {},
                                         ColourMethod method = ColourMethod::adaptive) {
    CalibrationSet set;
    set.cfa = CfaPattern(cfa);
    return std::make_shared<const FrameView>(std::make_shared<const CalibratedView>(std::move(raw), std::move(set)),
                                             method);
}

/// What it should be: all of it at once.
Image averaged(const FrameView& view, const Region& part, int factor) {
    const Image all = read_planes(view, part);
    Image out(part.width / factor, part.height / factor, view.planes());
    for (int p = 0; p < out.planes(); ++p)
        average_down(all.plane(p).crop({0, 0, out.width() * factor, out.height() * factor}), factor, out.plane(p));
    return out;
}

} // namespace

TEST_CASE("A frame in small is the same in whatever order its rows come by") {
    struct Case {
        std::string cfa;
        ColourMethod method;
        int planes;
    };
    for (const Case& c : {Case{"", ColourMethod::adaptive, 1}, Case{"", ColourMethod::adaptive, 3},
                          Case{"RGGB", ColourMethod::adaptive, 1}, Case{"RGGB", ColourMethod::bilinear, 1},
                          Case{"GBRG", ColourMethod::binned, 1}, Case{"RGGB", ColourMethod::green, 1}}) {
        INFO(c.cfa << " " << colour_method_name(c.method) << " " << c.planes);
        const auto view = view_of(counted(203, 158, c.planes), c.cfa, c.method);
        const Region whole = view->bounds(), part{3, 5, whole.width - 9, whole.height - 11};
        for (const Region& of : {whole, part})
            for (const int factor : {1, 3, 7}) {
                SmallFrame forwards(view, of, factor), backwards(view, of, factor), at_last(view, of, factor);
                for (int y = 0; y < 158; y += 10)
                    forwards.draw(y, std::min(158, y + 10));
                for (int y = 157; y >= 0; --y)
                    backwards.draw(y, y + 1);
                const Image expected = averaged(*view, of, factor);
                CHECK(forwards.finish().pixels() == expected.pixels());
                CHECK(backwards.finish().pixels() == expected.pixels());
                CHECK(at_last.finish().pixels() == expected.pixels());
            }
    }
}

TEST_CASE("A frame in small is no larger than a screen shows") {
    for (const auto& [width, height, factor] :
         {std::array{900, 20, 1}, std::array{901, 20, 2}, std::array{30, 4000, 5}}) {
        SmallFrame small(view_of(counted(width, height)));
        CHECK(small.factor() == factor);
        const Image drawn = small.finish();
        CHECK(drawn.width() == width / factor);
        CHECK(drawn.height() == height / factor);
    }
}

TEST_CASE("What reads a frame draws it, and nobody reads it for that at last") {
    const auto raw = counted(120, 90);
    const auto view = view_of(raw);
    const auto small = std::make_shared<SmallFrame>(as_it_came(*view), view->bounds(), 4);
    const auto watched = with_raw(
        *view, std::make_shared<const WatchedFrame>(raw, [small](const Region& r) { small->draw(r.y, r.bottom()); }));
    std::vector<std::thread> readers;
    for (int k = 0; k < 4; ++k)
        readers.emplace_back([&, k] { // columns of tiles, each from another row on
            for (int i = 0; i < 9; ++i)
                (void)read_planes(*watched, {30 * k, 10 * ((i + 2 * k) % 9), 30, 10});
        });
    for (std::thread& t : readers)
        t.join();
    for (const auto& row :
         raw->rows_read) // four tiles, and once for what is drawn of it; the last two rows make no square
        CHECK(row == (&row - raw->rows_read.data() < 88 ? 5 : 4));
    const Image drawn = small->finish();
    CHECK(raw->rows_read[0] == 5);
    CHECK(drawn.pixels() == averaged(*view, view->bounds(), 4).pixels());
}

TEST_CASE("A row that cannot be drawn on the way is drawn at last") {
    const auto raw = counted(64, 64);
    const auto view = view_of(raw);
    SmallFrame small(view, view->bounds(), 4);
    raw->gone = true;
    small.draw(0, 64);
    CHECK_THROWS_AS(SmallFrame(view, view->bounds(), 4).finish(), InputError);
    raw->gone = false;
    CHECK(small.finish().pixels() == averaged(*view, view->bounds(), 4).pixels());
}

TEST_CASE("An exposure as it came has none of its calibration") {
    Image dark(40, 30);
    std::fill(dark.pixels().begin(), dark.pixels().end(), 100.0f);
    const auto raw = counted(40, 30);
    CalibrationSet set{.dark = std::make_shared<const MemoryFrame>(std::move(dark)), .cfa = CfaPattern("RGGB")};
    const FrameView view(std::make_shared<const CalibratedView>(raw, set), ColourMethod::binned);
    const auto plain = as_it_came(view);
    CHECK(plain->method() == ColourMethod::binned);
    CHECK(read_planes(*plain).pixels() == read_planes(*view_of(raw, "RGGB", ColourMethod::binned)).pixels());
    CHECK(read_planes(*plain).pixels() != read_planes(view).pixels());
    CHECK(read_planes(*with_raw(view, raw)).pixels() == read_planes(view).pixels());
}
