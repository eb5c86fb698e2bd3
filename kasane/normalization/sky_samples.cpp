#include <kasane/normalization/sky_samples.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <mutex>

namespace kasane {

namespace {

constexpr float kNone = std::numeric_limits<float>::quiet_NaN();

/// Along one side of a frame: the last cell of its mesh is up to half a cell wider or narrower than the others, and its
/// value holds in its own middle.
class MeshSide {
public:
    MeshSide(int cells, int cell, int size)
        : before_((cells - 1.5) * cell - 0.5), middle_(0.5 * ((cells - 1) * cell + size) - 0.5),
          stretch_(cells > 1 ? cell / (middle_ - before_) : 1) {}
    /// Whether the mesh tells at a pixel: not beyond the middles of its outermost cells, by more than half a pixel.
    bool tells(double x, int cell) const { return x >= 0.5 * cell - 1 && x <= middle_ + 0.5; }
    /// Where the mesh has the pixel, all of its cells being of one size.
    double place(double x) const { return x > before_ ? before_ + stretch_ * (x - before_) : x; }

private:
    double before_, middle_, stretch_;
};

/// How a frame lies on the canvas, where it is.
struct Lie {
    double unit = 1;     ///< its pixels along one of the canvas
    bool turned = false; ///< its rows run down the canvas rather than across
};

Lie lie_of(const LevelInput& frame, const std::vector<Point>& places) {
    for (const Point& place : places) {
        const auto [x, y] = frame.to_frame.map(place);
        if (!(x >= 0 && y >= 0 && x < frame.width && y < frame.height)) continue;
        const auto [u, v] = frame.to_frame.map({place.x + 1, place.y});
        return {std::hypot(u - x, v - y), std::abs(v - y) > std::abs(u - x)};
    }
    return {};
}

/// Half the sides of a rectangle around a place.
struct Reach {
    double across, down;
    double least() const { return std::min(across, down); }
};

/// How far a frame reaches along its rows and columns, half a cell of its mesh at most, in its pixels; below 0 outside.
Reach reach_at(const LevelInput& frame, Point at) {
    if (!std::isfinite(at.x) || !std::isfinite(at.y)) return {-1, -1}; // far beyond it, where its lens folds
    const double most = 0.5 * frame.measures->mesh.cell;
    return {std::min({most, at.x + 0.5, frame.width - 0.5 - at.x}),
            std::min({most, at.y + 0.5, frame.height - 0.5 - at.y})};
}

/// Nearer to the edge a frame tells nothing.
bool tells(const LevelInput& frame, const Reach& reach) {
    constexpr double kLeast = 0.75; // of a cell of the means
    return reach.least() >= kLeast * frame.measures->mesh.means.cell;
}

/// The rectangle around each place that all frames show which tell there: across and down the canvas, in its pixels.
std::vector<Reach> common_reach(const std::vector<LevelInput>& frames, const std::vector<Lie>& lies,
                                const std::vector<Point>& places, const Workers& workers) {
    constexpr double kAll = std::numeric_limits<double>::infinity();
    std::vector<Reach> out(places.size(), {kAll, kAll});
    std::mutex mutex;
    workers.for_each(frames.size(), [&](std::size_t f) {
        std::vector<Reach> own(places.size(), {kAll, kAll});
        for (std::size_t k = 0; k < places.size(); ++k) {
            Reach r = reach_at(frames[f], frames[f].to_frame.map(places[k]));
            if (!tells(frames[f], r)) continue;
            if (lies[f].turned) std::swap(r.across, r.down);
            own[k] = {r.across / lies[f].unit, r.down / lies[f].unit};
        }
        const std::lock_guard lock(mutex);
        for (std::size_t k = 0; k < places.size(); ++k)
            out[k] = {std::min(out[k].across, own[k].across), std::min(out[k].down, own[k].down)};
    });
    return out;
}

/// One frame's values; `reach` in canvas pixels.
std::vector<float> look(const LevelInput& frame, const StarScale& scale, const Lie& lie,
                        const std::vector<Point>& places, const std::vector<Reach>& reach, Point centre, bool tilted) {
    const Background& mesh = frame.measures->mesh;
    const MeshSide across(mesh.level.width(), mesh.cell, frame.width),
        down(mesh.level.height(), mesh.cell, frame.height);
    std::vector<float> out(places.size(), kNone), levels = out;
    for (std::size_t k = 0; k < places.size(); ++k) {
        const Point at = frame.to_frame.map(places[k]);
        const double slope =
            tilted ? scale.slope_x * (places[k].x - centre.x) + scale.slope_y * (places[k].y - centre.y) : 0;
        const double factor = scale.scale * (1 + slope);
        if (!mesh.means.empty() && tells(frame, reach_at(frame, at))) {
            double wide = lie.unit * reach[k].across, high = lie.unit * reach[k].down;
            if (lie.turned) std::swap(wide, high);
            const double least = mesh.means.cell;
            out[k] =
                static_cast<float>(factor) * mesh.means.at(at.x, at.y, std::max(wide, least), std::max(high, least));
        }
        if (!across.tells(at.x, mesh.cell) || !down.tells(at.y, mesh.cell)) continue;
        levels[k] = static_cast<float>(factor * mesh.level_at(across.place(at.x), down.place(at.y)));
    }
    // Where stars cover nearly all of the sky, levels must do.
    constexpr double kEnough = 0.25; // of the places shown
    const auto told = [](const std::vector<float>& v) {
        return static_cast<double>(std::count_if(v.begin(), v.end(), [](float x) { return std::isfinite(x); }));
    };
    return told(out) < kEnough * told(levels) ? levels : out;
}

} // namespace

std::vector<std::vector<float>> look_at_sky(const std::vector<LevelInput>& frames, const std::vector<StarScale>& scales,
                                            const std::vector<Point>& places, const Canvas& canvas, bool tilted,
                                            const Workers& workers) {
    std::vector<Lie> lies;
    for (const LevelInput& frame : frames)
        lies.push_back(lie_of(frame, places));
    const std::vector<Reach> reach = common_reach(frames, lies, places, workers);
    std::vector<std::vector<float>> out(frames.size());
    workers.for_each(frames.size(), [&](std::size_t f) {
        out[f] = look(frames[f], scales[f], lies[f], places, reach, canvas.centre(), tilted);
    });
    return out;
}

} // namespace kasane
