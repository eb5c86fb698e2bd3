// A frame's own samples under a rectangle of a drizzled output: at the level of the stack, and those judged that the
// interpolated stack contradicts.
#pragma once

#include <kasane/combination/expectation.hpp>
#include <kasane/geometry/transform.hpp>
#include <kasane/image/plane_source.hpp>
#include <kasane/integration/drop_stretch.hpp>
#include <kasane/integration/growth.hpp>
#include <kasane/integration/stack.hpp>
#include <kasane/integration/structure.hpp>

#include <array>
#include <cstdint>
#include <memory>
#include <vector>

namespace kasane {

/// The interpolated stack over a rectangle of its canvas.
struct JudgingStack {
    Region region;                        ///< of the canvas
    Region whole;                         ///< all of the canvas
    Bounds own;                           ///< of it: the part whose samples are counted, its end left out
    const float* mean = nullptr;          ///< row by row; NaN without data
    const Structure* structure = nullptr; ///< may be null
    /// By pixel: where the frame does not count and others stand in; null: nowhere.
    enum Hidden : std::uint8_t { shown, trail, saturated };
    const std::uint8_t* hidden = nullptr;
    float level = 0, sigma = 0;   ///< ADU: background, and noise of the mean there
    FrameExpectation frame;       ///< of the frame's own samples
    bool low = true, high = true; ///< sides that are rejected
};

struct DropSampleOptions {
    GrowthOptions growth;
    bool repaired = false; ///< samples made of neighbours count as well
    double feather = 0;    ///< as in IntegrateOptions
};

/// A sample that does not count.
struct RejectedDrop {
    int x = 0, y = 0;          ///< of the frame
    double at_x = 0, at_y = 0; ///< where it lies on the canvas
    bool high = false, streak = false;
    bool own = false; ///< in JudgingStack::own
};

/// What is left of one plane of a frame.
struct DropPlane {
    /// Row by row of the box: values above the level times how much they count, and that; 0 where no sample counts.
    std::vector<float> values, counts;
    std::vector<std::uint8_t> whole; ///< by row of the box, as whole_rows() has it
    std::vector<RejectedDrop> rejected;
    std::uint64_t present = 0;     ///< samples with data in JudgingStack::own
    std::uint64_t passed_over = 0; ///< of them: made of neighbours, and left out
};

/// Share of a sensor's samples that belong to a plane; 1 where each plane has its own.
double share_of_samples(const PlaneSource& source, std::size_t plane);

/// Reads rectangles of frames and keeps its memory; one for each thread.
class DropSamples {
public:
    /// Reads what of a frame lies in `box` (which may reach beyond it). Throws InputError.
    void read(const StackFrame& frame, const Region& box);
    /// Judges what was read, by planes. What is found of a sample does not depend on the box, as long as it lies the
    /// steps of growth and one more inside. A sample of a mosaic that is rejected takes its neighbours of all colours
    /// along.
    void judge(const StackFrame& frame, const std::vector<JudgingStack>& stacks, const DropSampleOptions& options);

    const DropPlane& plane(std::size_t p) const { return planes_[p].out; }
    const Region& box() const { return box_; }
    /// The part of it that was read.
    const Region& inside() const { return inside_; }

private:
    /// What changes slowly over a frame.
    struct Node {
        double x = 0, y = 0, scale = 1, offset = 0;
    };
    struct Grown {
        std::int32_t place;
        float strength; ///< sigmas
    };
    enum class Fate : std::uint8_t { counts, absent, passed_over, streak, low, high };
    static constexpr int kPeriod = 6; ///< of any mosaic
    struct Plane {
        /// By row of the mosaic: 1 where it has samples of the plane, from the phase 0 on.
        std::array<std::array<float, kPeriod + DropStretch::kMost>, kPeriod> holds{};
        std::vector<Node> nodes;
        DropPlane out;
    };
    void lay_nodes(const StackFrame& frame, std::size_t plane);
    Node along(const Plane& plane, int i, int j, double down) const;
    Node at(const Plane& plane, int x, int y) const;
    void take_marks(const QualityPlane& marks, const DropSampleOptions& options);
    void judge_rows(Plane& plane, const std::vector<float>& pixels, const JudgingStack& stack);
    struct Stretch { ///< between two nodes of a row
        int first, from, until, y;
        Node a, b;
    };
    void judge_stretch(Plane& plane, const Stretch& at, const float* pixels, const JudgingStack& stack);
    void judge_sample(Plane& plane, std::size_t place, std::int32_t inside, Point at, bool own,
                      const JudgingStack& stack);
    float score(double x, double y, float value, const JudgingStack& stack) const;
    void grow(const GrowthOptions& options);
    void settle(Plane& plane, const JudgingStack& stack, double feather);
    bool is_of(const Plane& plane, int x, int y) const {
        return !mosaic_ ||
               plane.holds[static_cast<std::size_t>(y % kPeriod)][static_cast<std::size_t>(x % kPeriod)] > 0;
    }
    std::size_t in_box(std::int32_t place) const;

    Region box_, inside_;
    const PlaneSource* source_ = nullptr; ///< of single samples
    bool mosaic_ = false;
    std::vector<std::vector<float>> pixels_; ///< of `inside_`, by plane of the source
    std::vector<QualityPlane> quality_;
    std::unique_ptr<ReadMemory> memory_;
    int node_x_ = 0, node_y_ = 0, across_ = 0;
    std::vector<Fate> fates_;  ///< of `inside_`
    std::vector<bool> marked_; ///< by row: whether any sample of it may be marked beforehand
    std::vector<Grown> found_; ///< that the stack contradicts
    std::vector<Plane> planes_;
};

} // namespace kasane
