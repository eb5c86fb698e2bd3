// A finished run, looked at once more: what its master lights show, how they grew, and the lights beside them.
#pragma once

#include <kasane/grading/stack_growth.hpp>
#include <kasane/project/align.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/stars/star_shapes.hpp>

#include <array>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// What is told of a master light beside the run's own report.
struct MasterLook {
    std::string stack; ///< its name
    int width = 0, height = 0;
    std::string trouble;                 ///< why there are no stars to be shown; empty: nothing is wrong
    std::vector<StarLook> stars;         ///< the brightest
    int count = 0;                       ///< of all that were found
    FieldShape shape;                    ///< how their size depends on the place
    std::array<StarStamp, 9> mean_stars; ///< by ninths of the field, row by row
    int finer = 1;                       ///< pixels of those stamps to one of the master light
};

/// One light for the screen.
struct FrameLook {
    std::string stack, file, what; ///< "best", "worst", "calibrated", "as it came"
    Raster<std::uint8_t> pixels;   ///< stretched, all of a stack alike where they can be
};

/// Files of one folder that were taken for the same, for the same reason.
struct FileGroup {
    std::string folder, role,
        how; ///< relative to the project; "light", "master dark"; "header IMAGETYP = Dark", "file name"
    int files = 0;
};

struct ProjectResult {
    RunReport run;
    std::vector<std::string> stale; ///< results that are not what files and recipe ask for now, and why
    std::vector<MasterLook> masters;
    std::vector<FrameLook> frames;
    AlignReport registration;
    std::vector<FileGroup> files;      ///< as they are now, by folder
    std::vector<std::string> left_out; ///< what could not be shown, and why
};

/// How a stack of a report grew.
StackGrowth growth_of(const StackReport& stack);

/// The report that the last run left in a project's output folder (report.json). Throws UsageError where there is none,
/// InputError where it cannot be understood.
RunReport last_run(const RunOptions& options);

/// Looks at the master lights of a report, the best and the worst light of each, and what was registered. What cannot
/// be looked at is told in the result: lights that are gone, a project that another run holds. Throws Cancelled.
ProjectResult look_at_result(const RunOptions& options, RunReport run, const Context& context);

} // namespace kasane
