// What lights share while they are measured: what their masters do, and memory.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/grading/measures.hpp>

#include <atomic>
#include <cstdint>
#include <memory>
#include <mutex>
#include <vector>

namespace kasane {

/// What the masters of lights do to a whole frame, made once for all that have the same, and rooms to measure in.
/// Nothing that is measured depends on it. Thread-safe.
class SharedFrames {
public:
    /// For the lights of these views (null: none of them), within so many bytes at any time.
    SharedFrames(const std::vector<std::shared_ptr<const FrameView>>& views, std::uint64_t budget);

    /// The view of a light, which may know what its masters do. Throws InputError where they cannot be read. `workers`
    /// must be free, and be given by one thread alone.
    std::shared_ptr<const FrameView> prepared(std::size_t light, const std::shared_ptr<const FrameView>& view,
                                              const Workers* workers = nullptr);
    /// A light is done with: what it shared with others goes with the last of them.
    void done(std::size_t light);

    /// What is held of what masters do, bytes.
    std::uint64_t bytes() const { return held_; }

    std::unique_ptr<MeasureRoom> take_room();
    void give_room(std::unique_ptr<MeasureRoom> room);

private:
    struct Group;
    std::vector<std::shared_ptr<Group>> groups_; ///< by light; null: it shares nothing
    std::uint64_t budget_;
    std::atomic<std::uint64_t> held_{0};
    std::mutex rooms_mutex_;
    std::vector<std::unique_ptr<MeasureRoom>> rooms_;
};

} // namespace kasane
