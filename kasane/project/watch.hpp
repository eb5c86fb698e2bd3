// While a night goes on: new lights are measured, registered and judged as they arrive, and a small master light of
// each stack grows by them. What is measured is remembered: a run afterwards goes on from there.
#pragma once

#include <kasane/integration/growing_stack.hpp>
#include <kasane/project/grade.hpp>

#include <chrono>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

namespace kasane {

/// A light that is new, or that is judged otherwise than when it was looked at last.
struct ArrivedLight {
    std::string stack, filter, path, start;
    Figures figures;
    Verdict verdict;
    bool again = false; ///< it was there already
};

/// One stack as it has grown until now.
struct GrowingMaster {
    std::string stack, filter;
    int kept = 0, dropped = 0;
    double seconds = 0, effective_seconds = 0; ///< of the kept ones
    double noise = 0;            ///< of the background of their mean, ADU of the stack's level; 0: none yet
    double fwhm = 0;             ///< of its stars, pixels; 0: not known
    double noise_in_an_hour = 0; ///< after another hour of lights like the kept ones; 0: not known
    struct Step {
        double seconds = 0, noise = 0;
    };
    std::vector<Step> growth;             ///< after each kept light, in order of time
    int shown = 0;                        ///< lights in the picture
    int version = 0;                      ///< of the picture: a greater one is another
    std::shared_ptr<const Image> picture; ///< linear; null: there is none yet
};

/// What one look at the folder brought.
struct WatchNews {
    std::vector<ArrivedLight> lights; ///< in order of time
    std::vector<GrowingMaster> masters;
    std::vector<Finding> findings;          ///< that were not told before
    std::string problem;                    ///< what keeps it from being looked at, until it passes; empty: nothing
    double seconds = 0;                     ///< that the look took
    std::shared_ptr<GradedProject> project; ///< as it is now; null until there are lights
};

struct WatchOptions {
    std::chrono::milliseconds every{1000}; ///< between two glances at the folder
    std::chrono::milliseconds retry{
        15000};        ///< after a problem that the folder does not show (another run, a full disk)
    int picture = 900; ///< longer side of the growing master, pixels, at most
};

/// Watches one project. Used by one thread.
class Watch {
public:
    /// `first` tells its progress while all that is there is looked at; later looks are silent. Throws InputError where
    /// there is no such folder, UsageError for a recipe or limits that make no sense.
    Watch(const GradeOptions& options, const Context& first, const WatchOptions& watch = {});

    /// Looks at the folder: as grade_project does, and adds to the pictures. What cannot be done now is told in the
    /// result. Throws Cancelled.
    WatchNews look();
    /// Waits until files of the folder, the recipe or the verdicts have changed since the last look, and stand still.
    /// Throws Cancelled.
    void wait();

private:
    struct Grown { ///< the picture of a stack
        std::string reference;
        std::string unit;   ///< the light whose scale is 1, by its key
        GrowingStack stack; ///< lights by their keys
        int version = 0;
        std::shared_ptr<const Image> picture;
    };
    using Listing = std::map<std::string, std::string>; ///< path to stamp

    Listing list() const;
    void tell_lights(const GradeReport& report, WatchNews& news);
    void tell_findings(const GradeReport& report, WatchNews& news);
    GrowingMaster describe(const StackGrade& stack) const;
    void grow(const GradedProject& project, std::size_t stack, Grown& grown) const;

    GradeOptions options_;
    WatchOptions watch_;
    Context first_, quiet_;
    Progress silence_;
    bool looked_ = false, failed_ = false;
    Listing seen_;                            ///< before the last look
    std::map<std::string, std::string> told_; ///< by path: content and verdict of the light
    std::set<std::string> findings_;
    std::map<std::string, Grown> grown_; ///< by stack
};

} // namespace kasane
