#include <kasane/stages/shared_frames.hpp>

#include <kasane/calibration/master_frame.hpp>

#include <algorithm>
#include <new>

namespace kasane {

/// Lights with the same masters.
struct SharedFrames::Group {
    Group(CalibrationSet s, std::shared_ptr<const FrameReader> r) : set(std::move(s)), raw(std::move(r)) {}

    CalibrationSet set;
    std::shared_ptr<const FrameReader> raw;
    std::mutex mutex;     ///< of what follows
    int left = 0;         ///< lights
    bool no_room = false; ///< for the frame
    std::shared_ptr<const MasterFrame> frame;
};

namespace {
constexpr int kWorthWhile = 3; // lights
}

SharedFrames::SharedFrames(const std::vector<std::shared_ptr<const FrameView>>& views, std::uint64_t budget)
    : groups_(views.size()), budget_(budget) {
    std::vector<std::shared_ptr<Group>> known;
    for (std::size_t k = 0; k < views.size(); ++k) {
        if (!views[k]) continue;
        const CalibrationSet& set = views[k]->source().calibration();
        const FrameReader& raw = views[k]->source().raw();
        if ((!set.dark && !set.flat) || MasterFrame::bytes(set, raw) > budget) continue;
        auto same = std::find_if(known.begin(), known.end(),
                                 [&](const auto& g) { return MasterFrame::serves_alike(g->set, *g->raw, set, raw); });
        if (same == known.end())
            same = known.insert(known.end(), std::make_shared<Group>(set, views[k]->source().shared_raw()));
        groups_[k] = *same;
        ++groups_[k]->left;
    }
}

std::shared_ptr<const FrameView> SharedFrames::prepared(std::size_t light, const std::shared_ptr<const FrameView>& view,
                                                        const Workers* workers) {
    Group* const g = groups_[light].get();
    if (!g) return view;
    const std::unique_lock lock(g->mutex, std::try_to_lock); // who would wait goes without
    if (!lock || g->no_room || (!g->frame && g->left < kWorthWhile)) return view;
    if (!g->frame) {
        const std::uint64_t own = MasterFrame::bytes(g->set, *g->raw);
        if ((held_ += own) > budget_) { // others hold it; later there may be room
            held_ -= own;
            return view;
        }
        try {
            g->frame = std::make_shared<const MasterFrame>(g->set, *g->raw, workers);
        } catch (const std::bad_alloc&) {
            g->no_room = true;
            held_ -= own;
            return view;
        } catch (...) {
            held_ -= own;
            throw;
        }
    }
    CalibrationSet set = view->source().calibration();
    set.prepared = g->frame;
    return calibrated_by(*view, std::move(set));
}

void SharedFrames::done(std::size_t light) {
    Group* const g = groups_[light].get();
    if (!g) return;
    const std::lock_guard lock(g->mutex);
    if (--g->left > 0 || !g->frame) return;
    g->frame.reset();
    held_ -= MasterFrame::bytes(g->set, *g->raw);
}

std::unique_ptr<MeasureRoom> SharedFrames::take_room() {
    const std::lock_guard lock(rooms_mutex_);
    if (rooms_.empty()) return std::make_unique<MeasureRoom>();
    auto room = std::move(rooms_.back());
    rooms_.pop_back();
    return room;
}

void SharedFrames::give_room(std::unique_ptr<MeasureRoom> room) {
    const std::lock_guard lock(rooms_mutex_);
    rooms_.push_back(std::move(room));
}

} // namespace kasane
