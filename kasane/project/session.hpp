// What the stages of one run share. Internal to project/.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/io/pixel_cache.hpp>
#include <kasane/project/keys.hpp>
#include <kasane/project/ledger.hpp>
#include <kasane/project/run.hpp>
#include <kasane/project/scan.hpp>
#include <kasane/project/verdict_file.hpp>

#include <array>
#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>

namespace kasane {

/// A master that is ready to calibrate.
struct ReadyMaster {
    std::string key; ///< of everything it was made from, and of what it lacks: see effective_key
    std::filesystem::path file;
    MasterReport report;
};

/// What flats told of a camera's electronics. It is determined once for a sensor and setting and remembered: a new
/// night does not change it unless it was measurably wrong.
struct CameraFacts {
    double electrons_per_adu = 0, read_noise = 0; ///< electrons a unit of the file; electrons
    double saturation = 0;                        ///< ADU; 0: unknown
    std::string source;                           ///< "photon transfer of flat-L-2031-03-12"
};

struct Session {
    const RunOptions& options;
    const Recipe& recipe;
    PixelCache& cache;
    std::filesystem::path output;
    const Context& context;
    Ledger& ledger;
    std::vector<Exposure> exposures;
    Pairing pairing;
    std::vector<std::optional<ReadyMaster>> masters; ///< as pairing.masters; nothing where a master could not be made
    RunReport& report;
    VerdictFile verdicts = {};
    bool wants_previews = false; ///< lights whose preview is gone are measured again

    std::vector<FileStamp> stamps = {};                     ///< as exposures: when they were scanned
    std::set<std::string> unread = {};                      ///< files that could not be read, relative to the project
    std::map<std::string, CameraFacts> cameras = {};        ///< by camera_key
    mutable std::vector<std::string> metadata = {};         ///< digests that metadata_key made
    mutable std::map<std::string, bool> readable = {};      ///< what can_be_read found
    mutable std::map<std::string, std::string> judged = {}; ///< verdicts of this session, by their key
    mutable std::set<std::filesystem::path> verified = {};  ///< results whose bytes were found to be as written

    /// Where calibration masters lie: with the results, or in the recipe's library.
    std::filesystem::path masters_folder() const {
        return recipe.calibration.library.empty() ? output / "masters" : options.folder / recipe.calibration.library;
    }
    std::filesystem::path path_of(std::size_t exposure) const { return options.folder / exposures[exposure].path; }
    /// The frame as the recipe wants it turned. Throws InputError.
    std::unique_ptr<FrameReader> open(std::size_t exposure) const {
        return turned_frame(open_frame(path_of(exposure), &cache), exposures[exposure].turn);
    }
    /// The pixels of a file were read: that it is still the file that was scanned is made sure, its content is
    /// remembered, and its check sums are compared. Throws InputError if it has changed.
    void note_content(std::size_t exposure, const FrameReader& reader);
    /// Throws InputError if a file is not the one any more that was scanned.
    void require_unchanged(std::size_t exposure) const;
    /// Digest of all that is known of an exposure beside its pixels. The night of frames without light is the project's
    /// affair, not theirs: libraries share them.
    const std::string& metadata_key(std::size_t exposure) const;
    /// Whether all of a file can be read now, of those that could not be before.
    bool can_be_read(const std::string& path) const;
    bool any_can_be_read(const std::vector<std::string>& paths) const;
    void set_aside(const std::string& path, const std::string& why, const std::string& remedy) {
        report.findings.push_back({Level::warning, "file-set-aside", {path}, why, remedy});
    }
};

/// Seconds since it was made.
class Stopwatch {
public:
    double seconds() const { return std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count(); }

private:
    std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

/// Takes over what was scanned, pairs it under the names that were given before, and recalls the cameras. Throws
/// UsageError where the recipe measures a part that lies outside the frames.
void pair_session(Session& session, const Scan& scan);
/// Remembers the names of stacks and masters for the next time.
void remember_names(Session& session);

/// A choice that is remembered with the files that could not be read when it was made: nothing if there is none, or if
/// one of those files can be read now, so that it must be made again.
std::optional<std::string> standing_choice(const Session& session, const std::string& name);
void remember_choice(Session& session, const std::string& name, const std::string& value);

/// True if a result is as it was written: its stamp is the remembered one, or its bytes are.
bool is_intact(const Session& session, const std::filesystem::path& file);
/// Remembers what a result looks like now that it has been written.
void remember_intact(const Session& session, const std::filesystem::path& file);

/// What a result was made from, so that a change can be told and explained: settings by name, inputs by identity.
class Basis {
public:
    explicit Basis(const std::string& kind);
    Basis& set(const std::string& name, const std::string& value);
    Basis& input(const std::string& identity, const std::string& path);
    std::string key() const;
    std::string text() const; ///< for the ledger
    /// What has changed since `former` (text of an earlier basis): "2 new: ...", "setting ... was ...". Empty: nothing.
    std::vector<std::string> changes_since(const std::string& former) const;

private:
    std::vector<std::pair<std::string, std::string>> settings_, inputs_;
};

/// What is made with a master is keyed by this: its own key, and the files that it lacks, if any. Once it is whole, all
/// of it is made again.
std::string effective_key(const std::string& key, const MasterReport& report);
Basis master_basis(const Session& session, const MasterPlan& plan);
/// Masters in the order in which they can be made, those that lights need.
std::vector<std::size_t> needed_masters(const Pairing& pairing);
/// The report of a master that is on disk as its basis wants it. Adopted masters are always there.
std::optional<MasterReport> finished_master(const Session& session, const MasterPlan& plan, const std::string& key);

/// Why a master could not be made of the files as they are; nothing if it was not tried, or may succeed now.
std::optional<std::string> failed_master(const Session& session, const std::string& key);

/// Builds or finds all masters that the pairing needs, and settles what they tell of the cameras (masters.cpp).
void make_masters(Session& session);

/// What is known of a camera's electrons, and how.
struct NoiseModel {
    double electrons_per_adu = 0; ///< 0: unknown
    double saturation = 0;        ///< ADU; 0: unknown
    std::string source;           ///< "photon transfer of flat-L-2031-03-12"
};
/// By what is known of the camera at this gain, else by the header (cameras.cpp).
NoiseModel noise_model(const Session& session, const Exposure& light);
std::string camera_key(const Exposure& exposure);
/// Cameras that earlier runs determined.
void recall_cameras(Session& session);
/// Determines those that are not known yet from the flats that were made, and corrects those that are measurably wrong.
void settle_cameras(Session& session);

/// Calibrated views of lights, with masters and defect lists opened once (calibrations.cpp).
class Calibrations {
public:
    explicit Calibrations(const Session& session) : session_(session) {}
    /// Throws InputError if the raw file or a master cannot be opened. `own`: what its measures found.
    std::shared_ptr<const FrameView> view(const LightPlan& light, std::shared_ptr<const OwnCorrections> own = nullptr);
    /// Digest of what calibrates a light.
    std::string key(const LightPlan& light) const;
    /// The key of a light's measures, found once: masters and cameras stay as they are as long as this lives. Made by
    /// `make`; thread-safe.
    const std::string& measure_key_of(const LightPlan& light, const std::function<std::string()>& make) const;
    /// Of the sensor that took a light, by its masters and the recipe.
    const DefectCounts& defect_counts(const LightPlan& light) const;
    /// How much of its dark a light takes: as planned, or as measured in the light itself. Empty reason: as planned.
    struct DarkShare {
        double factor = 1, second_share = 0;
        std::string reason;
    };
    DarkShare dark_share(const LightPlan& light);

private:
    const ReadyMaster* ready(const std::optional<std::size_t>& master) const;
    std::shared_ptr<const FrameReader> reader(std::size_t master);
    /// Defects by the masters that show them: dark (or bias) and flat.
    struct SensorDefects {
        std::shared_ptr<const DefectList> list;
        DefectCounts counts;
    };
    /// Those masters, and the sensor's size: lights without masters have only it in common.
    using DefectKey = std::array<std::size_t, 4>;
    DefectKey defect_key(const LightPlan& light) const;
    std::shared_ptr<const DefectList> defects(const LightPlan& light);
    void add_marked(Mask& mask) const;

    const Session& session_;
    std::map<std::size_t, std::shared_ptr<const FrameReader>> readers_;
    std::map<DefectKey, SensorDefects> defects_;
    mutable std::mutex keys_mutex_;
    mutable std::map<std::size_t, std::string> measure_keys_; ///< by exposure
};

/// The measures of one light, or why there are none.
struct Measured {
    std::shared_ptr<const ExposureMeasures> measures;
    std::string problem, remedy;
    bool unread = false; ///< its file could not be read, which may pass
};

/// Measures lights, from the ledger where they are known (measuring.cpp). One result a light. Leaves a preview of each
/// in preview_file.
std::vector<Measured> measure_lights(Session& session, Calibrations& calibrations,
                                     const std::vector<const LightPlan*>& lights);
/// Where the preview of a light with this measure key lies.
std::filesystem::path preview_file(const Session& session, const std::string& measure_key);
std::string measure_key(const Session& session, const Calibrations& calibrations, const LightPlan& light);

/// Stacks that share one registration reference: one target through one kind of sensor, on grids of one size.
struct StackGroup {
    std::string name;
    std::vector<std::size_t> stacks;
};
std::vector<StackGroup> group_stacks(const Session& session);
/// How the mosaics of a stack's lights become planes; of no matter for others.
ColourMethod colour_method(const Session& session, const Exposure& light);
/// The reference that earlier runs chose for a group; empty if there is none, or if it is not among the group's
/// exposures any more (stacks.cpp).
std::string remembered_reference(const Session& session, const StackGroup& group);
Basis stack_basis(const Session& session, const Calibrations& calibrations, const StackPlan& plan,
                  const std::string& reference);
/// The report of a master light that is on disk as its basis wants it.
std::optional<StackReport> finished_stack(const Session& session, const StackPlan& plan, const std::string& key);

/// The file of a master or master light.
std::filesystem::path master_file(const Session& session, const MasterPlan& plan, const std::string& key);
std::filesystem::path light_file(const Session& session, const StackPlan& plan);

/// Results and pictures in places that hold files which Kasane did not write. Throws UsageError naming the first.
void require_free_places(const Session& session);

/// What a run still has to do (work.cpp).
struct Work {
    int masters = 0, lights = 0, stacks = 0;
    std::vector<StackReport> failed; ///< that cannot be made of the files as they are
    double core_seconds = 0;         ///< on a usual machine
    std::uint64_t result_bytes = 0, cache_bytes = 0, memory_bytes = 0;
};
Work remaining_work(Session& session);
/// Fills session.masters as if all were made: what they would be keyed by is known before (work.cpp).
void assume_masters(Session& session);
/// Where the least that a master light needs is more than the budget.
std::optional<Finding> memory_finding(const Session& session, const Work& work);
/// What a finding says of a stack whose master light could not be made.
Finding failure_finding(const StackReport& stack);
/// Temporary files of killed runs, wherever any of them may write.
void remove_all_leftovers(const Session& session);
/// How this machine compares with the usual one: for the next estimate.
void remember_speed(Session& session, const Work& done, double seconds);

/// Files whose check sums were found not to match, in this run or before (basis.cpp).
std::vector<Finding> checksum_findings(const Session& session);

/// Makes the master lights of all stacks (stacks.cpp).
void make_stacks(Session& session);

} // namespace kasane
