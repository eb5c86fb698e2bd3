// A master light that grows while a night goes on: exposures are added one by one, each read once, and can be taken out
// again.
//
// For looking at, in small: a weighted mean without rejection (trails that were found do not count), so that what an
// exposure adds depends on no other. The sky of each is brought to that of the first by a plane, fitted robustly to
// their difference (where they share less than half of it, by an offset; from panel to panel along what overlaps);
// scales and weights are the caller's.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/integration/stack.hpp>

#include <array>
#include <map>
#include <string>
#include <vector>

namespace kasane {

class GrowingStack {
public:
    GrowingStack() = default;
    /// Of a canvas of its own, to which the transforms of its frames lead.
    GrowingStack(Canvas canvas, int planes);

    /// Adds what a frame shows of the canvas, with this weight. Of its planes the transforms, noise and the value of
    /// the scale count. `name` is its own: nothing happens if it is there already. The result does not depend on
    /// threads. Throws InputError if it cannot be read: nothing has changed then.
    void add(const std::string& name, const StackFrame& frame, double weight, const Workers& workers);
    /// Takes a frame out again, reading its pixels once more. Nothing happens if it is not there. Throws as `add` does.
    void remove(const std::string& name, std::shared_ptr<const PlaneSource> pixels, const Workers& workers);

    bool has(const std::string& name) const { return members_.count(name) != 0; }
    std::vector<std::string> names() const;
    const Canvas& canvas() const { return canvas_; }
    /// The mean so far; NaN where no frame has data.
    Image picture() const;

private:
    /// What brings a plane of a frame to the level of the first.
    struct Level {
        double scale = 1;
        std::array<double, 3> sky{}; ///< offset at the middle, and its slopes a pixel of the canvas
        double at(double value, int x, int y, Point middle) const {
            return scale * value + sky[0] + sky[1] * (x - middle.x) + sky[2] * (y - middle.y);
        }
    };
    struct Member {
        StackFrame frame; ///< without its pixels
        double weight = 0;
        std::vector<Level> levels;
    };
    Image on_canvas(const StackFrame& frame, const Workers& workers) const;
    Level level_of(View<const float> samples, int plane, double scale) const;
    void take(const Image& samples, const Member& member, double sign);

    Canvas canvas_;
    std::map<std::string, Member> members_;
    Image first_;                 ///< whose sky is the level; beyond it, of what showed the place first
    Raster<double> sum_, weight_; ///< exactly what was added can be taken out
};

} // namespace kasane
