// What the stages of one run share. Internal to project/.
#pragma once

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/project/ledger.hpp>
#include <kasane/project/run.hpp>

#include <chrono>
#include <map>
#include <memory>
#include <optional>

namespace kasane {

/// A master that is ready to calibrate.
struct ReadyMaster {
    std::string key; ///< of everything it was made from
    std::filesystem::path file;
    MasterReport report;
};

struct Session {
    const RunOptions& options;
    std::filesystem::path output;
    const Context& context;
    Ledger& ledger;
    std::vector<Exposure> exposures;
    Pairing pairing;
    std::vector<std::optional<ReadyMaster>> masters; ///< as pairing.masters; nothing where a master could not be made
    RunReport& report;

    std::filesystem::path path_of(std::size_t exposure) const { return options.folder / exposures[exposure].path; }
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

/// The version of the numerics: part of every key, raised when a change alters results.
inline constexpr const char* kNumerics = "1";

/// Builds or finds all masters that the pairing needs (masters.cpp).
void make_masters(Session& session);

/// Calibrated views of lights, with masters and defect lists opened once (calibrations.cpp).
class Calibrations {
public:
    explicit Calibrations(const Session& session) : session_(session) {}
    /// Throws InputError if the raw file or a master cannot be opened.
    std::shared_ptr<const CalibratedView> view(const LightPlan& light);
    /// Digest of what calibrates a light.
    std::string key(const LightPlan& light) const;

private:
    const ReadyMaster* ready(const std::optional<std::size_t>& master) const;
    std::shared_ptr<const FrameReader> reader(std::size_t master);
    std::shared_ptr<const DefectList> defects(const LightPlan& light);

    const Session& session_;
    std::map<std::size_t, std::shared_ptr<const FrameReader>> readers_;
    std::map<std::pair<std::size_t, std::size_t>, std::shared_ptr<const DefectList>> defects_;
};

/// The measures of one light, or why there are none.
struct Measured {
    std::shared_ptr<const Measures> measures;
    std::string problem, remedy;
};

/// Measures lights, from the ledger where they are known (measuring.cpp). One result a light.
std::vector<Measured> measure_lights(Session& session, Calibrations& calibrations,
                                     const std::vector<const LightPlan*>& lights);
std::string measure_key(const Session& session, const Calibrations& calibrations, const LightPlan& light);

/// Makes the master lights of all stacks (stacks.cpp).
void make_stacks(Session& session);

} // namespace kasane
