// Frames of several fields on one grid: where a camera points, panels, and what does not belong to them.
#include <kasane/registration/align.hpp>
#include <kasane/registration/panels.hpp>
#include <kasane/registration/pose.hpp>
#include <kasane/sky/star_views.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <set>

using namespace kasane;

namespace {

std::vector<FrameToAlign> frames_of(const sky::StarPanels& p, const sky::StarViewOptions& v, bool focal_known = true) {
    std::vector<FrameToAlign> out;
    for (std::size_t i = 0; i < p.lists.size(); ++i)
        out.push_back({&p.lists[i], v.width, v.height, "frame " + std::to_string(i), "rig",
                       60.0 * static_cast<double>(i), focal_known ? v.focal : 0});
    return out;
}

/// Root mean square over whole frames: where the sky is that each of their places shows.
double error_of(const sky::StarPanels& p, const sky::StarViewOptions& v, const std::vector<Outcome>& found) {
    double squares = 0;
    int n = 0;
    for (std::size_t i = 0; i < found.size(); ++i) {
        if (!found[i]) continue;
        for (int y = 0; y <= 8; ++y)
            for (int x = 0; x <= 8; ++x, ++n) {
                const Point at{0.125 * x * (v.width - 1), 0.125 * y * (v.height - 1)};
                const Point a = p.truth[i].unmap(at), b = found[i]->to_frame.unmap(at);
                squares += (a.x - b.x) * (a.x - b.x) + (a.y - b.y) * (a.y - b.y);
            }
    }
    return std::sqrt(squares / n);
}

sky::StarPanelOptions telescope() {
    sky::StarPanelOptions o;
    o.view.width = 3000, o.view.height = 2000;
    o.view.stars = 300;
    o.view.focal = 120000; // pixels: a field of 1.4 degrees
    o.view.distortion = 0.002;
    return o;
}

} // namespace

TEST_CASE("The derivatives of a pose are those of its map") {
    CameraPose pose;
    pose.at = {1.3, -0.7};
    pose.turn = 0.4, pose.growth = 0.1, pose.stretch = {0.01, -0.02};
    pose.mirrored = GENERATE(false, true);
    const double curvature = 0.11;
    const Eigen::Vector2d u(0.9, -1.1);
    const PoseSlopes s = pose_slopes(pose, curvature, u);
    const MappingSlopes m = mapping_slopes(pose.map(curvature), Mapping::projective, u);
    CHECK((s.at - m.at).norm() < 1e-12);
    CHECK((s.by_position - m.by_position).norm() < 1e-12);
    constexpr double kStep = 1e-6;
    for (int i = 0; i < 6; ++i) {
        double by[6] = {};
        CameraPose more = pose, less = pose;
        by[i] = kStep;
        step(more, 6, by);
        by[i] = -kStep;
        step(less, 6, by);
        const Eigen::Vector2d slope =
            (pose_slopes(more, curvature, u).at - pose_slopes(less, curvature, u).at) / (2 * kStep);
        CHECK((slope - s.by_pose.col(i)).norm() < 1e-8);
    }
    const Eigen::Vector2d bent =
        (pose_slopes(pose, curvature + kStep, u).at - pose_slopes(pose, curvature - kStep, u).at) / (2 * kStep);
    CHECK((bent - s.by_curvature).norm() < 1e-8);
    pose.stretch.setZero();
    const CameraPose again = CameraPose::of(pose.map(curvature), curvature);
    CHECK((again.at - pose.at).norm() < 1e-10);
    CHECK(again.turn == Approx(pose.turn));
    CHECK(again.growth == Approx(pose.growth));
    CHECK(again.mirrored == pose.mirrored);
}

TEST_CASE("Nine panels that share a tenth of their sides come onto one grid, to their far corners") {
    const sky::StarPanelOptions o = telescope();
    const sky::StarPanels p = sky::star_panels(o, GENERATE(1u, 2u, 3u));
    const Alignment a = align_frames(frames_of(p, o.view), p.middle, {}, Workers(2));
    CHECK(a.mosaic);
    CHECK_FALSE(a.frames[p.middle]->to_frame.canvas_lens());
    for (const Outcome& f : a.frames)
        REQUIRE(f);
    CHECK(error_of(p, o.view, a.frames) < 0.15);
    REQUIRE(a.rigs.at("rig").lens);
    CHECK(a.rigs.at("rig").corner == Approx(0.002).epsilon(0.15));
    // The panels are told apart.
    std::vector<PanelFrame> placed;
    for (const Outcome& f : a.frames)
        placed.push_back({f->to_frame, o.view.width, o.view.height});
    CHECK(panels_of(placed) == p.panel);
}

TEST_CASE("Two panels are placed as well as their stars allow: models are solved before they are compared") {
    sky::StarPanelOptions o = telescope();
    o.columns = 2, o.rows = 1;
    const sky::StarPanels p = sky::star_panels(o, 101);
    const Alignment a = align_frames(frames_of(p, o.view), p.middle, {}, Workers(2));
    for (const Outcome& f : a.frames)
        REQUIRE(f);
    CHECK(error_of(p, o.view, a.frames) < 0.1); // with a lens about an axis that nothing tells: 0.25
}

TEST_CASE("A camera lens that is turned over half the sky bends the grid as the sky is bent") {
    sky::StarPanelOptions o = telescope();
    o.view.focal = 6000; // a field of 28 degrees
    o.view.distortion = -0.01;
    o.columns = 3, o.rows = 1;
    o.overlap = 0.2;
    const sky::StarPanels p = sky::star_panels(o, 4);
    const bool known = GENERATE(true, false); // whether headers tell the focal length
    const Alignment a = align_frames(frames_of(p, o.view, known), p.middle, {}, Workers(2));
    for (const Outcome& f : a.frames)
        REQUIRE(f);
    // Of 78 degrees the grid is stereographic; pixels of the plane, which is stretched by half at its ends.
    const auto grid = a.frames[p.middle]->to_frame.canvas_lens();
    REQUIRE(grid);
    CHECK(grid->stereographic == Approx(6000).epsilon(0.01));
    std::vector<Outcome> on_the_plane = a.frames;
    for (Outcome& f : on_the_plane) {
        CHECK(f->to_frame.canvas_lens() == grid);
        f.result->to_frame = Transform(f->to_frame.projective(), f->to_frame.lens());
    }
    CHECK(error_of(p, o.view, on_the_plane) < 1);
    // A pixel of the plane shows less and less of the sky towards its ends; of the grid, hardly.
    const auto least = [&](const Outcome& f) {
        double area = 1e9; // pixels of the frame in one of the grid
        for (const Point corner : {Point{0, 0}, Point{2999, 0}, Point{0, 1999}, Point{2999, 1999}})
            area = std::min(area, std::abs(f->to_frame.at(f->to_frame.unmap(corner)).determinant()));
        return area;
    };
    CHECK(least(a.frames.front()) > 1.4 * least(on_the_plane.front()));
    INFO(known);
}

TEST_CASE("A panel beyond a gap and frames of another sky have no place, and are told why") {
    sky::StarPanelOptions o = telescope();
    o.columns = 4, o.rows = 1;
    sky::StarPanels p = sky::star_panels(o, 5);
    const sky::StarPanels other = sky::star_panels(o, 6);
    for (std::size_t i = 0; i < p.lists.size(); ++i) {
        if (p.panel[i] == 2) p.lists[i] = other.lists[i]; // another sky
    }
    const Alignment a = align_frames(frames_of(p, o.view), 4, {}, Workers(2));
    for (std::size_t i = 0; i < p.lists.size(); ++i) {
        INFO(i);
        CHECK(bool(a.frames[i]) == (p.panel[i] < 2));
        if (p.panel[i] == 3) CHECK_THAT(a.frames[i].text, Catch::Contains("it and 3 others show one field"));
    }
}

TEST_CASE("A mosaic is the same for any number of threads") {
    sky::StarPanelOptions o = telescope();
    o.columns = 2, o.rows = 2;
    const sky::StarPanels p = sky::star_panels(o, 7);
    const Alignment one = align_frames(frames_of(p, o.view), p.middle, {}, Workers(1)),
                    three = align_frames(frames_of(p, o.view), p.middle, {}, Workers(3));
    for (std::size_t i = 0; i < p.lists.size(); ++i) {
        REQUIRE(one.frames[i]);
        REQUIRE(three.frames[i]);
        CHECK(one.frames[i]->to_frame.projective() == three.frames[i]->to_frame.projective());
    }
}

TEST_CASE("A field that drifts is one panel, however far") {
    std::vector<PanelFrame> frames;
    for (int i = 0; i < 40; ++i)
        frames.push_back({Transform(Affine{1, 0, -50.0 * i, 0, 1, 0}), 400, 300});
    const std::vector<int> panels = panels_of(frames);
    CHECK(std::set<int>(panels.begin(), panels.end()).size() == 1);
    std::swap(frames[3], frames[30]); // in any order
    const std::vector<int> again = panels_of(frames);
    CHECK(std::set<int>(again.begin(), again.end()).size() == 1);
}
