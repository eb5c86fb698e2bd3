#include <kasane/stages/master_build.hpp>

#include <kasane/stages/master_file.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/master.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <memory>
#include <mutex>
#include <optional>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Members that could not be used.
struct LeftOut {
    std::vector<std::pair<std::string, std::string>> all; ///< and why
    std::vector<std::string> unread;                      ///< of these, what may be read another time
    void add(const Session& s, std::size_t member, const FileFailure& failure) {
        const std::string& path = s.exposures[member].path;
        all.emplace_back(path, failure.what_failed);
        if (!failure.unfit) unread.push_back(path);
    }
};

/// The frames of a master that are good so far.
struct Frames {
    std::vector<std::shared_ptr<const FrameReader>> readers;
    std::vector<std::size_t> members; ///< the exposures they are of
    LeftOut left_out;

    void drop(const Session& s, std::size_t at, const FileFailure& failure) {
        left_out.add(s, members[at], failure);
        readers.erase(readers.begin() + static_cast<std::ptrdiff_t>(at));
        members.erase(members.begin() + static_cast<std::ptrdiff_t>(at));
    }
};

/// What is done of one master, in units of a stage that makes several; all of it when it ends, however it does.
class MasterShare final : public Progress {
public:
    /// `pixels`: of the master, of all planes.
    MasterShare(Progress& stage, std::int64_t units, std::int64_t pixels)
        : stage_(stage), units_(static_cast<double>(units)),
          pixels_(static_cast<double>(std::max<std::int64_t>(1, pixels))) {}
    ~MasterShare() override { tell(1); }
    MasterShare(const MasterShare&) = delete;
    MasterShare& operator=(const MasterShare&) = delete;
    void advance(std::int64_t pixels) override { // combined
        const std::lock_guard lock(mutex_);
        combined_ += static_cast<double>(pixels);
        tell(kCombining * std::min(1.0, combined_ / pixels_));
    }
    /// One of `count` frames was compared with what is remembered of it.
    void compared(std::size_t count) {
        const std::lock_guard lock(mutex_);
        compared_ += 1;
        tell(kCombining + kComparing * std::min(1.0, compared_ / static_cast<double>(count)));
    }

private:
    static constexpr double kCombining = 0.6, kComparing = 0.2; // then it is looked at, written and drawn
    void tell(double share) { // never back: where a frame is left out, all is done again
        const auto units = static_cast<std::int64_t>(units_ * share);
        if (units > told_) stage_.advance(units - told_);
        told_ = std::max(told_, units);
    }
    Progress& stage_;
    double units_, pixels_, combined_ = 0, compared_ = 0;
    std::int64_t told_ = 0;
    std::mutex mutex_;
};

/// Opens the frames of a plan; those that cannot be opened are set aside.
void open_members(const Session& s, const MasterPlan& plan, Frames& frames) {
    for (const std::size_t i : plan.members) {
        const auto failure = attempt([&] { frames.readers.push_back(s.open(i)); });
        if (failure)
            frames.left_out.add(s, i, *failure);
        else
            frames.members.push_back(i);
    }
}

/// Builds from as many of the frames as are good: one that fails on the way is set aside, and the rest is done again.
MasterResult build_from_good(Session& s, const MasterPlan& plan, const FrameReader* offset, Frames& frames,
                             MasterShare& share) {
    MasterOptions options;
    const Context context{s.context.workers, s.context.memory, share, s.context.scratch};
    options.offset_level = static_cast<float>(plan.offset_level.value_or(0));
    options.cfa = CfaPattern(s.exposures[plan.members.front()].cfa);
    for (;;) {
        if (frames.readers.empty())
            throw DataError(frames.left_out.all.empty() ? "it has no frames"
                                                        : "none of its frames could be used; of the first: " +
                                                              frames.left_out.all.front().second,
                            {}, "Mend the files, or leave them out");
        MasterResult result = build_master(plan.role, frames.readers, offset, context, options);
        if (result.failure) {
            frames.drop(s, result.failure->frame, result.failure->what);
            continue;
        }
        std::vector<std::optional<FileFailure>> changed(frames.members.size());
        s.context.workers.for_each(changed.size(), [&](std::size_t k) {
            changed[k] = attempt([&] { s.note_content(frames.members[k], *frames.readers[k]); });
            share.compared(changed.size());
        });
        const auto first = std::find_if(changed.begin(), changed.end(), [](const auto& c) { return c.has_value(); });
        if (first == changed.end()) return result;
        frames.drop(s, static_cast<std::size_t>(first - changed.begin()), **first);
    }
}

/// What photon transfer says of the camera that took these flats.
void measure_camera(Session& s, const MasterPlan& plan, const std::vector<std::size_t>& members,
                    const FrameReader* offset, MasterReport& r) {
    std::vector<std::shared_ptr<const FrameReader>> flats, bias;
    const auto failure = attempt([&] { // as far as it goes
        for (const std::size_t i : members)
            flats.push_back(s.open(i));
        if (plan.offset && !s.pairing.masters[*plan.offset].existing)
            for (const std::size_t i : s.pairing.masters[*plan.offset].members)
                if (bias.size() < 2) bias.push_back(s.open(i));
        const PhotonTransfer t = measure_photon_transfer(
            flats, bias, offset, static_cast<float>(plan.offset_level.value_or(0)), s.context.workers);
        r.electrons_per_adu = t.electrons_per_adu;
        r.read_noise = t.read_noise;
        r.saturation = t.saturation;
    });
    if (failure) r.unread.push_back(failure->file.lexically_proximate(s.options.folder).string()); // again when it can
    if (!members.empty() && !s.exposures[members.front()].linear) r.electrons_per_adu = r.read_noise = 0;
}

/// The steps that made a master: as planned, of the frames that were used, and what the combination tells.
Provenance account_of(const Session& s, const MasterPlan& plan, const Basis& basis, const MasterResult& m,
                      const std::vector<std::size_t>& members) {
    Provenance made = basis.planned();
    Provenance::Step& gather = made.step("gather");
    gather.inputs.clear();
    for (const std::size_t i : members)
        gather.inputs.push_back({Provenance::Input::Kind::exposure, s.exposures[i].identity, s.exposures[i].path, {}});
    made.merge(m.made);
    if (plan.role != Role::flat) return made;
    Provenance::Step& offset = made.step("offset");
    offset.text = plan.offset_reason;
    if (plan.offset && !s.masters[*plan.offset]) {
        offset.text = "not removed, " + s.pairing.masters[*plan.offset].name + " could not be made";
        offset.inputs.clear();
    }
    return made;
}

/// Of all planes of one frame.
std::int64_t pixels_of(const Session& s, const MasterPlan& plan) {
    if (plan.members.empty()) return 0;
    const Exposure& e = s.exposures[plan.members.front()];
    return static_cast<std::int64_t>(e.width) * e.height * e.planes;
}

} // namespace

std::int64_t master_units(const Session& s, const MasterPlan& plan) {
    return 1 + static_cast<std::int64_t>(plan.members.size()) * pixels_of(s, plan) / 1000;
}

ReadyMaster build_ready_master(Session& s, const MasterPlan& plan, const Basis& basis, const fs::path& file,
                               std::vector<std::string>& unread) {
    const Stopwatch clock;
    MasterShare share(s.context.progress, master_units(s, plan), pixels_of(s, plan));
    std::unique_ptr<FrameReader> offset;
    const bool offset_missing = plan.offset && !s.masters[*plan.offset];
    if (plan.offset && !offset_missing) offset = open_frame(s.masters[*plan.offset]->file);
    Frames frames;
    const auto tell_unread = [&] { unread = frames.left_out.unread; };
    MasterResult m;
    try {
        open_members(s, plan, frames);
        m = build_from_good(s, plan, offset.get(), frames, share);
    } catch (const Error&) {
        tell_unread();
        throw;
    }
    tell_unread();
    const std::vector<std::size_t>& members = frames.members;
    MasterReport r;
    r.unread = frames.left_out.unread;
    if (plan.role == Role::flat) measure_camera(s, plan, members, offset.get(), r);
    if (plan.offset && !offset_missing) {
        const auto& lacked = s.masters[*plan.offset]->report.unread;
        r.unread.insert(r.unread.end(), lacked.begin(), lacked.end());
    }
    if (offset_missing)
        for (const std::size_t i : s.pairing.masters[*plan.offset].members)
            r.unread.push_back(s.exposures[i].path);
    r.doubts = doubts_of_master(plan.role, m, r, s.exposures[members.front()]);
    if (offset_missing)
        r.doubts.push_back("its offset could not be removed: " + s.pairing.masters[*plan.offset].name +
                           " could not be made");
    r.name = plan.name;
    r.role = role_name(plan.role);
    r.file = fs::relative(file, s.output).string();
    r.preview = fs::relative(master_preview(file), s.output).string();
    r.frames = m.frames;
    r.level = m.level;
    r.colour_levels = m.colour_levels;
    r.noise = m.noise;
    r.level_spread = m.level_spread;
    r.gradient = m.gradient;
    r.star_pixels = static_cast<int>(m.star_pixels);
    r.made = account_of(s, plan, basis, m, members);
    r.combination = m.made.find("combine")->text;
    r.frame_noise = m.frame_noise;
    r.rejected_share = m.rejected_share;
    r.offset = plan.role == Role::flat ? plan.offset_reason : "";
    for (const std::size_t i : members)
        r.members.push_back(s.exposures[i].path);
    r.left_out = std::move(frames.left_out.all);
    write_master(s, {plan, m, members, r, basis.key(), file});
    if (!s.exposures_fit()) // the lights are read twice, these not
        for (const std::size_t i : members)
            let_go(s.path_of(i));
    r.time = clock.seconds();
    return {basis.key(), file, r};
}

} // namespace kasane
