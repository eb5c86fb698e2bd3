// What the stages of one run share, and what they remember from run to run.
#pragma once

#include <kasane/base/file_stamp.hpp>
#include <kasane/base/parallel.hpp>
#include <kasane/io/pixel_cache.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/pairing/pairing.hpp>
#include <kasane/recipe/verdicts.hpp>
#include <kasane/stages/options.hpp>

#include <chrono>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

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
    mutable std::map<std::string, std::optional<std::string>> outside = {}; ///< what outside_identity found
    struct KnownMask {
        std::string digest;
        int width = 0, height = 0;
    };
    std::map<std::string, KnownMask> masks = {}; ///< images of [[files]] mask, by their path
    mutable std::map<std::string, std::shared_ptr<const Mask>> drawn_masks = {}; ///< by mask_key and size
    mutable std::set<std::filesystem::path> verified = {}; ///< results whose bytes were found to be as written

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
    /// Whether the system can keep all exposures in memory beside what the run takes.
    bool exposures_fit() const;
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

/// A choice that is remembered with the files that could not be read when it was made: nothing if there is none, or if
/// one of those files can be read now, so that it must be made again.
std::optional<std::string> standing_choice(const Session& session, const std::string& name);
void remember_choice(Session& session, const std::string& name, const std::string& value);

/// Files whose check sums were found not to match, in this run or before.
std::vector<Finding> checksum_findings(const Session& session);

} // namespace kasane
