#include <kasane/stages/canvas_sky.hpp>

#include <kasane/base/units.hpp>
#include <kasane/stages/outside_image.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

Point file_pixel(const Exposure& e, int cell, Point p) {
    const Point s{cell * p.x + 0.5 * (cell - 1), cell * p.y + 0.5 * (cell - 1)};
    const double w = e.width, h = e.height; // after the turn
    switch (e.turn) {
    case 90:
        return {s.y, w - 1 - s.x};
    case 180:
        return {w - 1 - s.x, h - 1 - s.y};
    case 270:
        return {h - 1 - s.y, s.x};
    default:
        return s;
    }
}

Point turned_pixel(const Exposure& e, Point p) {
    const double w = e.width, h = e.height;
    switch (e.turn) {
    case 90:
        return {w - 1 - p.y, p.x};
    case 180:
        return {w - 1 - p.x, h - 1 - p.y};
    case 270:
        return {p.y, h - 1 - p.x};
    default:
        return p;
    }
}

namespace {

constexpr int kAlong = 25, kDown = 19; // places on the canvas

Point place(const Canvas& canvas, int column, int row) {
    return {static_cast<double>(column) / (kAlong - 1) * (canvas.width - 1),
            static_cast<double>(row) / (kDown - 1) * (canvas.height - 1)};
}

/// Places of the canvas on the sky, as one header has them; NaN where its frame does not reach.
struct Witness {
    std::string path;
    std::vector<SkyPoint> sky;
};

/// Where pixels that no lens moved lie: the headers' own where they know distortion or there is none, else the best
/// projection of what the lens corrects.
std::optional<WorldCoordinates> of_ideal_pixels(const Exposure& e, int cell, const Light& l) {
    const Lens& lens = *l.registration->to_frame.lens();
    std::vector<SkySample> samples;
    for (int row = 0; row < kDown; ++row)
        for (int column = 0; column < kAlong; ++column) {
            const Point p{(column + 0.5) / kAlong * l.measures->width - 0.5,
                          (row + 0.5) / kDown * l.measures->height - 0.5};
            const Point ideal = lens.correct(p);
            if (std::isfinite(ideal.x)) samples.push_back({ideal, e.world->to_sky(file_pixel(e, cell, p))});
        }
    constexpr double kWhatever = 1e9; // pixels: a plane is wanted, however well it fits
    return fit_world(samples, l.measures->width, l.measures->height, kWhatever);
}

Witness witness_of(const Session& s, const Light& l, const Canvas& canvas) {
    const Exposure& e = *l.exposure;
    const int cell = grid_cell(s, e);
    const Transform t = l.registration->to_frame.after(canvas.to_reference());
    const auto ideal = t.lens() && e.world->order == 0 ? of_ideal_pixels(e, cell, l) : std::nullopt;
    Witness out{e.path, {}};
    for (int row = 0; row < kDown; ++row)
        for (int column = 0; column < kAlong; ++column) {
            const Point p = t.map(place(canvas, column, row));
            constexpr double kBeyond = 0.02; // of the frame, where a polynomial may still be trusted
            const double mx = kBeyond * l.measures->width, my = kBeyond * l.measures->height;
            const bool inside =
                p.x >= -mx && p.y >= -my && p.x <= l.measures->width + mx && p.y <= l.measures->height + my;
            if (!inside)
                out.sky.push_back({kNoData, kNoData});
            else
                out.sky.push_back(ideal ? ideal->to_sky(t.lens()->correct(p))
                                        : e.world->to_sky(file_pixel(e, cell, p)));
        }
    return out;
}

/// Median angle between two, degrees; infinite where they have nothing in common.
double apart(const Witness& a, const Witness& b) {
    std::vector<double> angles;
    for (std::size_t k = 0; k < a.sky.size(); ++k)
        if (std::isfinite(a.sky[k].ra) && std::isfinite(b.sky[k].ra)) angles.push_back(separation(a.sky[k], b.sky[k]));
    constexpr std::size_t kEnough = 9;
    if (angles.size() < kEnough) return std::numeric_limits<double>::infinity();
    std::nth_element(angles.begin(), angles.begin() + static_cast<std::ptrdiff_t>(angles.size() / 2), angles.end());
    return angles[angles.size() / 2];
}

/// The most that agree, each with one of the others at least: panels that do not meet agree over those between.
std::vector<const Witness*> largest_agreement(const std::vector<Witness>& all, double within) {
    std::vector<const Witness*> best;
    std::vector<bool> met(all.size());
    for (std::size_t first = 0; first < all.size(); ++first) {
        if (met[first]) continue;
        std::vector<std::size_t> group = {first};
        met[first] = true;
        for (std::size_t at = 0; at < group.size(); ++at)
            for (std::size_t k = 0; k < all.size(); ++k)
                if (!met[k] && apart(all[group[at]], all[k]) < within) {
                    met[k] = true;
                    group.push_back(k);
                }
        if (group.size() <= best.size()) continue;
        std::sort(group.begin(), group.end());
        best.clear();
        for (const std::size_t k : group)
            best.push_back(&all[k]);
    }
    return best;
}

std::vector<SkySample> mean_of(const std::vector<const Witness*>& all, const Canvas& canvas) {
    std::vector<SkySample> out;
    for (int k = 0; k < kAlong * kDown; ++k) {
        Eigen::Vector3d sum(0, 0, 0);
        for (const Witness* w : all) {
            const SkyPoint& p = w->sky[static_cast<std::size_t>(k)];
            if (!std::isfinite(p.ra)) continue;
            const double ra = radians(p.ra), dec = radians(p.dec);
            sum += Eigen::Vector3d(std::cos(dec) * std::cos(ra), std::cos(dec) * std::sin(ra), std::sin(dec));
        }
        if (sum.norm() == 0) continue;
        const Point c = place(canvas, k % kAlong, k / kAlong);
        const double ra = degrees(std::atan2(sum.y(), sum.x()));
        out.push_back({c, {ra < 0 ? ra + 360 : ra, degrees(std::atan2(sum.z(), std::hypot(sum.x(), sum.y())))}});
    }
    return out;
}

/// Lights with coordinates, the reference first; of many some spread over all of them.
std::vector<const Light*> speakers(const GradedLights& graded, const std::vector<const Light*>& used) {
    std::vector<const Light*> all;
    const auto speaks = [](const Light& l) { return l.exposure->world && l.registration && l.measures; };
    for (const auto& stack : graded.lights)
        for (const Light& l : stack)
            if (l.measures == graded.reference && speaks(l)) all.push_back(&l);
    const auto heard = [&](const Light* l) {
        return std::any_of(all.begin(), all.end(), [&](const Light* other) { return other->exposure == l->exposure; });
    };
    for (const Light* l : used)
        if (speaks(*l) && !heard(l)) all.push_back(l);
    constexpr std::size_t kMost = 64;
    if (all.size() <= kMost) return all;
    std::vector<const Light*> some;
    for (std::size_t k = 0; k < kMost; ++k)
        some.push_back(all[k * all.size() / kMost]);
    return some;
}

/// Coordinates of the reference's grid on a canvas over it.
std::optional<WorldCoordinates> of_part(const WorldCoordinates& world, const Canvas& grid, const Canvas& canvas) {
    if (canvas.bounds() == grid.bounds() && canvas.on_the_grid() && canvas.origin == Point{}) return world;
    const Affine to_grid = canvas.to_reference();
    std::vector<SkySample> samples;
    for (int row = 0; row < kDown; ++row)
        for (int column = 0; column < kAlong; ++column) {
            const Point c = place(canvas, column, row);
            Point p;
            to_grid.apply(c.x, c.y, p.x, p.y);
            samples.push_back({c, world.to_sky(p)});
        }
    auto out = fit_world(samples, canvas.width, canvas.height);
    if (out) out->frame = world.frame, out->equinox = world.equinox;
    return out;
}

} // namespace

CanvasSky sky_of_canvas(const Session& s, const GradedLights& graded, const std::vector<const Light*>& used,
                        const Canvas& canvas, bool beyond) {
    CanvasSky out;
    if (!s.recipe.registration.onto.empty()) {
        if (const auto world = world_of_image(outside_file(s))) {
            out.world = of_part(*world, graded.canvas, canvas);
            out.text = "as the image that gives the grid has them";
            return out;
        }
    }
    std::vector<Witness> witnesses;
    for (const Light* l : speakers(graded, used))
        witnesses.push_back(witness_of(s, *l, canvas));
    if (witnesses.empty()) return out;
    const double together = 3 * canvas.scale; // pixels of the canvas
    const auto first = std::find_if(witnesses.front().sky.begin(), witnesses.front().sky.end(),
                                    [](const SkyPoint& p) { return std::isfinite(p.ra); });
    if (first == witnesses.front().sky.end()) return out;
    // A pixel's size, by two places of the lattice beside each other.
    const auto k = static_cast<std::size_t>(first - witnesses.front().sky.begin());
    const std::size_t beside = k + 1 < witnesses.front().sky.size() && std::isfinite(first[1].ra) ? k + 1 : k - 1;
    const double step = static_cast<double>(canvas.width - 1) / (kAlong - 1),
                 pixel = separation(*first, witnesses.front().sky[beside]) / step;
    std::vector<const Witness*> best = largest_agreement(witnesses, together * pixel);
    StackDoubt doubt{
        "world-coordinates-differ", {}, {}, "Solve their position anew, or leave it: pixels do not need it"};
    for (const Witness& w : witnesses)
        if (std::find(best.begin(), best.end(), &w) == best.end()) doubt.files.push_back(w.path);
    const bool none_agree = best.size() == 1 && witnesses.size() > 1;
    if (none_agree)
        doubt.text = fmt::format("the world coordinates of {} lights all say another place on the sky; the master "
                                 "light gets none",
                                 witnesses.size());
    else
        doubt.text = fmt::format("the world coordinates of {} of {} lights say another place on the sky than the "
                                 "others' and are not used",
                                 doubt.files.size(), witnesses.size());
    if (!doubt.files.empty()) out.doubts.push_back(doubt);
    if (none_agree) return out;
    const auto taken = speakers(graded, used);
    // The reference's own, with nothing between it and the grid; else the mean of those that agree.
    const bool by_reference =
        !beyond && best.size() > 0 && taken.front()->measures == graded.reference &&
        std::any_of(best.begin(), best.end(), [&](const Witness* w) { return w == &witnesses.front(); });
    const std::size_t agree = best.size();
    if (by_reference) best = {&witnesses.front()};
    double left = 0;
    constexpr double kFine = 0.01; // pixels
    out.world = fit_world(mean_of(best, canvas), canvas.width, canvas.height, kFine, &left);
    if (!out.world) return out;
    for (const Light* l : taken)
        if (l->exposure->path == best.front()->path) {
            out.world->frame = l->exposure->world->frame;
            out.world->equinox = l->exposure->world->equinox;
        }
    const std::string whose =
        by_reference ? fmt::format("by the reference's header{}",
                                   agree > 1 ? fmt::format(", with which those of {} lights agree", agree - 1) : "")
                     : fmt::format("by the headers of {} light{}", agree, agree == 1 ? "" : "s");
    out.text = fmt::format("{}, {}, to {:.3f} px", whose,
                           out.world->order ? fmt::format("with distortion of order {}", out.world->order)
                                            : std::string("without distortion"),
                           left);
    return out;
}

} // namespace kasane
