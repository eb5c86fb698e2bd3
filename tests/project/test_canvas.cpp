// What the master lights of a project show: parts of the sky, turned, mirrored, scaled; previews; several together.
#include "support/projects.hpp"

#include <kasane/base/units.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

constexpr int kWidth = 400, kHeight = 300;

sky::PlainOptions plain() {
    sky::PlainOptions o;
    o.width = kWidth, o.height = kHeight;
    o.lights = 6, o.calibration = 0;
    o.stars = 140, o.nebula = 0;
    o.rotation = 3;
    return o;
}

/// Solved headers; the second light's is off, which is none of this.
void write_plain(const fs::path& to) {
    sky::Scenario s = sky::plain_scenario(plain());
    s.solved = SkyPoint{201.3, -47.4};
    sky::write_scenario(s, to, Quiet().context);
}

using PlainCopy = CopyOf<write_plain>;

constexpr const char* kFixed = "[integration]\nrejection = \"sigma\"\n"; // not chosen by what the canvas shows

struct Made {
    StackReport report;
    Image pixels;
    Header header;
};

Made made(const fs::path& project, const std::string& canvas) {
    write_recipe(project, kFixed + canvas);
    const RunReport r = run(project);
    Made out{r.stacks.at(0), {}, {}};
    REQUIRE(!out.report.file.empty());
    const auto file = open_fits(project / "kasane" / out.report.file);
    out.pixels = read_plane(*file);
    out.header = file->header();
    return out;
}

/// Median and largest difference where both are, of `a` at (x, y) and `b` at what `place` makes of it.
struct Difference {
    double median = 0, most = 0;
    std::size_t places = 0;
};
template <class Place>
Difference difference(const Image& a, const Image& b, Place place) {
    std::vector<double> all;
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x) {
            const auto [u, v] = place(x, y);
            if (u < 0 || v < 0 || u >= b.width() || v >= b.height()) continue;
            const double d = std::abs(static_cast<double>(a(x, y)) - b(u, v));
            if (std::isfinite(d)) all.push_back(d);
        }
    Difference out;
    out.places = all.size();
    if (all.empty()) return out;
    std::sort(all.begin(), all.end());
    out.median = all[all.size() / 2];
    out.most = all.back();
    return out;
}

std::size_t empty_pixels(const Image& image) {
    return static_cast<std::size_t>(
        std::count_if(image.pixels().begin(), image.pixels().end(), [](float v) { return std::isnan(v); }));
}

} // namespace

TEST_CASE("A part, a quarter turn and a mirror of the picture have the pixels of the whole one") {
    const PlainCopy p;
    const Made whole = made(p.path, "");
    CHECK(whole.report.canvas.empty());
    CHECK_FALSE(whole.header.find("CNVORGX"));

    const Made part = made(p.path, "[canvas]\nframe = \"60 40 200 150\"\n");
    CHECK_FALSE(part.report.reused);
    CHECK((part.pixels.width() == 200 && part.pixels.height() == 150));
    CHECK((part.header.number("CNVORGX") == 60. && part.header.number("CNVORGY") == 40.));
    // Rejection feels what lies beside: at the edges of the part that is not there.
    const Difference cut =
        difference(part.pixels, whole.pixels, [](int x, int y) { return std::pair(x + 60, y + 40); });
    CHECK(cut.median < 0.01 * whole.report.noise); // weights are told from what is shown
    CHECK(cut.places > 29900);

    const Made left = made(p.path, "[canvas]\nturn = 90\n");
    CHECK(left.header.number("CNVTURN") == 90.);
    const Difference turned =
        difference(left.pixels, whole.pixels, [](int x, int y) { return std::pair(kWidth - 1 - y, x); });
    CHECK(turned.median < 0.01 * whole.report.noise);
    CHECK(turned.places > 0.95 * kWidth * kHeight);
    CHECK(empty_pixels(left.pixels) == empty_pixels(whole.pixels));
    CHECK_THAT(left.report.canvas, Catch::Contains("turned by 90 degrees"));

    const Made mirrored = made(p.path, "[canvas]\nmirror = true\n");
    CHECK(difference(mirrored.pixels, whole.pixels, [](int x, int y) { return std::pair(kWidth - 1 - x, y); }).median <
          0.01 * whole.report.noise);

    const Made beyond = made(p.path, "[canvas]\nframe = \"-50 -30 120 100\"\n");
    CHECK(std::isnan(beyond.pixels(0, 0)));
    CHECK(std::isfinite(beyond.pixels(90, 60)));
}

TEST_CASE("Everything has what any light shows, common what most of them show") {
    const PlainCopy p;
    const Made whole = made(p.path, ""), all = made(p.path, "[canvas]\nframe = \"everything\"\n");
    CHECK((all.pixels.width() > kWidth + 10 && all.pixels.height() > kHeight + 10));
    const int x0 = static_cast<int>(*all.header.number("CNVORGX")),
              y0 = static_cast<int>(*all.header.number("CNVORGY"));
    CHECK((x0 < 0 && y0 < 0));
    const Image coverage = read_plane(*open_fits(p.path / "kasane" / all.report.file, "COVERAGE"));
    CHECK(*std::max_element(coverage.pixels().begin(), coverage.pixels().end()) == Approx(1).margin(1e-5));
    // Where the reference is, it is the same picture, but for a level that takes in more of the sky.
    const Difference d = difference(whole.pixels, all.pixels, [&](int x, int y) { return std::pair(x - x0, y - y0); });
    CHECK(d.median < 0.3 * whole.report.noise);
    // Every side shows something.
    const auto shows = [&](int x, int y) { return std::isfinite(all.pixels(x, y)); };
    int sides[4] = {};
    for (int x = 0; x < all.pixels.width(); ++x)
        sides[0] += shows(x, 1), sides[1] += shows(x, all.pixels.height() - 2);
    for (int y = 0; y < all.pixels.height(); ++y)
        sides[2] += shows(1, y), sides[3] += shows(all.pixels.width() - 2, y);
    for (const int n : sides)
        CHECK(n > 0);

    const Made common = made(p.path, "[canvas]\nframe = \"common\"\nshare = \"100 %\"\n");
    CHECK(empty_pixels(common.pixels) == 0);
    CHECK((common.pixels.width() < kWidth && common.pixels.width() > 0.7 * kWidth));
    const Image shares = read_plane(*open_fits(p.path / "kasane" / common.report.file, "COVERAGE"));
    std::size_t little = 0;
    for (const float v : shares.pixels())
        little += v < 0.99f;
    CHECK(static_cast<double>(little) < 0.06 * static_cast<double>(shares.pixels().size())); // what was rejected
    CHECK(run(p.path).stacks.at(0).reused);
    // A light that is dropped changes what all have in common.
    write_recipe(p.path,
                 kFixed + std::string("[canvas]\nframe = \"common\"\nshare = 1\n[grading]\nlimits = [\"best 4 by "
                                      "snr\"]\n"));
    const RunReport fewer = run(p.path);
    CHECK_FALSE(fewer.stacks.at(0).reused);
    CHECK(fewer.stacks.at(0).used == 4);
}

TEST_CASE("A scale is said loudly, keeps the light of stars, and noise and FWHM are those of its pixels") {
    const PlainCopy p;
    const Made whole = made(p.path, "");
    const double scale = GENERATE(0.5, 2.0);
    INFO(scale);
    const Made other = made(p.path, fmt::format("[canvas]\nscale = {}\n", scale));
    CHECK((other.pixels.width() == kWidth * scale && other.pixels.height() == kHeight * scale));
    CHECK(other.header.number("SCALED") == scale);
    CHECK(*other.header.number("XPIXSZ") == Approx(*whole.header.number("XPIXSZ") / scale).epsilon(1e-3));
    CHECK_THAT(other.report.canvas, Catch::Contains("AT SCALE"));
    RunReport told;
    told.stacks.push_back(other.report);
    CHECK_THAT(run_table(told), Catch::Contains("AT SCALE"));
    // The same stars at the same places, with 1 / scale^2 of the brightness in scale^2 as many pixels.
    const StarList a = detect_stars(whole.pixels.plane()), b = detect_stars(other.pixels.plane());
    std::vector<double> ratios;
    for (const Star& s : a.stars)
        for (const Star& t : b.stars)
            if (std::hypot((s.x + 0.5) * scale - 0.5 - t.x, (s.y + 0.5) * scale - 0.5 - t.y) < 0.3 &&
                s.flux > 40 * s.flux_sigma && !s.saturated && !t.saturated)
                ratios.push_back(t.flux / s.flux);
    REQUIRE(ratios.size() > 10);
    std::sort(ratios.begin(), ratios.end());
    CHECK(ratios[ratios.size() / 2] == Approx(scale * scale).epsilon(scale < 1 ? 0.02 : 0.01));
    CHECK(other.report.fwhm / whole.report.fwhm == Approx(scale).epsilon(scale < 1 ? 0.2 : 0.05));
    if (scale < 1) CHECK(other.report.noise == Approx(0.5 * whole.report.noise).epsilon(0.05));
}

TEST_CASE("North comes up where headers say where it is, and the header of a turned picture is right") {
    const PlainCopy p;
    const Made whole = made(p.path, ""), up = made(p.path, "[canvas]\nturn = \"north up\"\nscale = 0.5\n");
    const auto before = read_world(whole.header), after = read_world(up.header);
    REQUIRE((before && after));
    CHECK_THAT(up.report.canvas, Catch::Contains("north is up"));
    const Point middle{0.5 * (up.pixels.width() - 1), 0.5 * (up.pixels.height() - 1)};
    SkyPoint north = after->to_sky(middle);
    north.dec += 0.01;
    const Point there = after->to_pixel(north);
    CHECK(std::abs(there.x - middle.x) < 0.01 * (middle.y - there.y));
    // A star lies where it lay.
    const StarList stars = detect_stars(up.pixels.plane()), all = detect_stars(whole.pixels.plane());
    const double pixel = before->arcsec_per_pixel() / 3600;
    CHECK(after->arcsec_per_pixel() == Approx(2 * before->arcsec_per_pixel()).epsilon(1e-3));
    int found = 0, bright = 0;
    for (const Star& s : stars.stars) {
        if (s.flux < 40 * s.flux_sigma) continue;
        ++bright;
        const SkyPoint here = after->to_sky({s.x, s.y});
        found += std::any_of(all.stars.begin(), all.stars.end(), [&](const Star& t) {
            return separation(here, before->to_sky({t.x, t.y})) < 0.4 * pixel;
        });
    }
    CHECK((bright >= 8 && found >= bright - 1));

    // Without any position there is no north, and nothing is lost.
    const TemporaryFolder folder;
    sky::write_scenario(sky::plain_scenario(plain()), folder / "p", Quiet().context);
    write_recipe(folder / "p", "[canvas]\nturn = \"north up\"\n");
    const RunReport r = run(folder / "p");
    CHECK(r.stacks.at(0).file.empty());
    CHECK_THAT(r.stacks.at(0).failure, Catch::Contains("north up") && Catch::Contains("Give the turn in degrees"));
}

TEST_CASE("A preview is small, beside the real master light, and leaves that as it is") {
    const PlainCopy p;
    const Made whole = made(p.path, "");
    const auto before = digests(p.path);
    const Outcome o = shell("{kasane} integrate --preview -q -C " + p.path.string());
    CHECK(o.status == 1); // there are no calibration frames, which a run tells as well
    CHECK_THAT(o.out, Catch::Contains("AT SCALE 0.25") && Catch::Contains("previews at a quarter of the size"));
    const fs::path file = p.path / "kasane/previews" / fs::path(whole.report.file).filename();
    CHECK(read_plane(*open_fits(file)).width() == kWidth / 4);
    for (const auto& [name, digest] : before)
        CHECK(digests(p.path).at(name) == digest);
    CHECK(run(p.path).stacks.at(0).reused);
    const StatusReport status = status_of(p.path);
    CHECK((status.all_done() && status.leftovers.empty()));
    // Of a small picture as well.
    write_recipe(p.path, kFixed + std::string("feather = 40\n[canvas]\nscale = 0.1\n"));
    CHECK_THAT(shell("{kasane} integrate --preview -q -C " + p.path.string()).out,
               Catch::Contains("0.025: a pixel is 40"));
    CHECK(read_plane(*open_fits(file)).width() == kWidth / 40);
    CHECK(shell("{kasane} integrate --preview --compare-rejections -q -C " + p.path.string()).status == 2);
}

TEST_CASE("A drizzled master light shows the same sky on finer pixels, and says so") {
    const PlainCopy p;
    const Made whole = made(p.path, "");
    const Made fine = made(p.path, "[drizzle]\nscale = 2\ndrop = 0.8\n");
    REQUIRE((fine.pixels.width() == 2 * kWidth && fine.pixels.height() == 2 * kHeight));
    CHECK_THAT(fine.report.canvas, Catch::Contains("DRIZZLED onto 800 x 600 pixels, 2 along the side"));
    CHECK_THAT(fmt::format("{}", fmt::join(fine.report.made.history(), "\n")),
               Catch::Contains("square drops of 0.8 pixels"));
    CHECK(fine.header.number("SCALED") == 2);
    CHECK(fine.header.number("CNVORGX") == Approx(-0.25));
    // Of pixels half as large, as larger areas have it: with the pattern of a sensor that nothing calibrates, too.
    CHECK(fine.report.noise > 1.9 * whole.report.noise);
    CHECK(fine.report.noise < 2.6 * whole.report.noise);
    CHECK(fine.header.number("NOISEPIX").value() < 0.75 * fine.header.number("NOISE").value());
    CHECK(fine.header.number("CD1_1") == Approx(whole.header.number("CD1_1").value() / 2));
    CHECK(fine.report.fwhm == Approx(2 * whole.report.fwhm).epsilon(0.08));
    std::vector<float> off;
    for (int y = 20; y < kHeight - 20; ++y)
        for (int x = 20; x < kWidth - 20; ++x) {
            float mean = 0;
            for (const int j : {0, 1})
                for (const int i : {0, 1})
                    mean += fine.pixels(2 * x + i, 2 * y + j) / 4;
            if (std::isfinite(mean)) off.push_back(mean - whole.pixels(x, y));
        }
    CHECK(off.size() > 90000);
    CHECK(std::abs(median_in_place(off)) < 0.1 * whole.report.noise);
    // It stays while nothing changes, and previews are of the interpolated kind.
    CHECK(run(p.path).stacks.at(0).reused);
    const Outcome o = shell("{kasane} integrate --preview -q -C " + p.path.string());
    CHECK_THAT(o.out, !Catch::Contains("DRIZZLED") && Catch::Contains("AT SCALE 0.25"));
    CHECK(read_plane(*open_fits(p.path / "kasane" / fine.report.file)).width() == 2 * kWidth);
    // Asked for against the advice, which stands there with what is done; a picture shows the phases of the lights.
    const SamplingReport& told = fine.report.sampling;
    CHECK((told.drizzled && told.scale == 2 && told.drop == 0.8));
    CHECK_THAT(told.text, Catch::Contains("quarter-pixel phases") && Catch::Contains("AGAINST THE ADVICE"));
    CHECK(fine.report.pixel_noise == Approx(fine.header.number("NOISEPIX").value()));
    REQUIRE(fs::is_regular_file(p.path / "kasane" / told.picture));
    fs::remove(p.path / "kasane" / told.picture);
    CHECK_FALSE(run(p.path).stacks.at(0).reused);
    // Left open, lights whose stars are wide are interpolated as ever.
    REQUIRE(fs::is_regular_file(p.path / "kasane" / told.picture));
    const Made open = made(p.path, "[drizzle]\nscale = \"auto\"\n");
    CHECK_FALSE(fs::exists(p.path / "kasane" / told.picture)); // nothing shows it any more
    CHECK_THAT(open.report.sampling.text, Catch::Contains("drizzling would gain nothing"));
    CHECK(open.report.sampling.picture.empty());
    CHECK(open.pixels.pixels() == whole.pixels.pixels());
    // Other drops are another master light; none at all is the first one again.
    CHECK_FALSE(made(p.path, "[drizzle]\nscale = 2\ndrop = 0.7\n").report.reused);
    CHECK(made(p.path, "").pixels.pixels() == whole.pixels.pixels());
}

TEST_CASE("All filters together and a luminance are made of finished master lights, kept, and told") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    sky::PlainOptions o = plain();
    sky::Scenario s = sky::plain_scenario(o);
    const char* filters[] = {"R", "G", "B"};
    s.scene.filters = {"R", "G", "B"};
    for (std::size_t k = 0; k < s.shots.size(); ++k) {
        s.shots[k].filter = filters[k % 3];
        s.shots[k].path = fmt::format("night-1/lights/{}_{:03}.fits", filters[k % 3], k + 1);
    }
    sky::write_scenario(s, p, Quiet().context);
    write_recipe(p, "[integration]\nalso = [\"all-filters\", \"luminance\"]\n");
    const RunReport first = run(p);
    REQUIRE(first.stacks.size() == 3);
    REQUIRE(first.composites.size() == 2);
    for (const CompositeReport& c : first.composites) {
        INFO(c.name);
        CHECK(c.parts.size() == 3);
        const auto file = open_fits(p / "kasane" / c.file);
        const Image pixels = read_plane(*file), one = read_plane(*open_fits(p / "kasane" / first.stacks[0].file));
        CHECK(pixels.width() == one.width());
        CHECK(file->header().number("NOISE") == Approx(c.noise));
        // Three of about the same noise: less than any, and as told. A star is where it is in each.
        for (const StackReport& stack : first.stacks)
            CHECK(c.noise < 0.75 * stack.noise);
        const StarList stars = detect_stars(pixels.plane()), others = detect_stars(one.plane());
        REQUIRE(!others.stars.empty());
        const Star& bright = others.stars.front();
        CHECK(std::any_of(stars.stars.begin(), stars.stars.end(),
                          [&](const Star& star) { return std::hypot(star.x - bright.x, star.y - bright.y) < 0.2; }));
        CHECK(fs::exists(p / "kasane" / c.preview));
    }
    CHECK_THAT(run_table(first),
               Catch::Contains("Made of several master lights") && Catch::Contains("scaled to the same flux of stars"));
    const RunReport again = run(p);
    CHECK((again.composites.at(0).reused && again.composites.at(1).reused));
    CHECK(status_of(p).all_done());

    fs::remove(p / "kasane" / first.composites[1].file);
    CHECK_FALSE(status_of(p).all_done());
    CHECK_THAT(shell("{kasane} check -q -C " + p.string()).out, Catch::Contains("make 1 image of the finished"));
    const RunReport third = run(p);
    CHECK((third.composites.at(0).reused && !third.composites.at(1).reused));

    // What is not asked for any more is named; what cannot be made says why.
    write_recipe(p, "[integration]\nalso = [\"luminance\"]\n[[files]]\nmatch = \"**/B_*\"\nexclude = true\n");
    const RunReport without = run(p);
    CHECK(without.composites.empty());
    const Finding* why = find(without.findings, "composite-not-made");
    REQUIRE(why);
    CHECK_THAT(why->text, Catch::Contains("R, G and B"));
    CHECK(status_of(p).leftovers.size() >= 2);
}
